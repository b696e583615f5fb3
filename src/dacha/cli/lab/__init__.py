"""The lab as a whole: start, check, diff, apply, host."""
