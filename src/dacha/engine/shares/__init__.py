"""Folders of this host in guests."""
