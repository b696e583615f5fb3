"""Editing the lab file."""
