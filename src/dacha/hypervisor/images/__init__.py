"""Disk images: examined, created, and their backing images."""
