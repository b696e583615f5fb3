"""The lab as a whole: new, check, diff, apply, host."""
