"""The known labs: listed, moved, renamed, removed."""
