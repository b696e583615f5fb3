"""Files that other programs read: pure functions from values to bytes and text, and back."""
