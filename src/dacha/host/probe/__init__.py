"""Asking ports and names."""
