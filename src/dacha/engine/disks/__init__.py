"""Disks, media and storages."""
