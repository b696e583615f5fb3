"""Asking everything about one way."""
