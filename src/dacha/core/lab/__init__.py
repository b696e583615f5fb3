"""The lab: what one file describes, read, written, edited."""
