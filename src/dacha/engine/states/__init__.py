"""Snapshots of guests: taken, listed, restored, removed."""
