"""Guests: edit, list, power."""
