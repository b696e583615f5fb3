"""Disk images: their headers, boot sectors, and the snapshots in them."""
