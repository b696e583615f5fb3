"""Files that other programs read: bytes and text in, bytes and text out, no I/O."""
