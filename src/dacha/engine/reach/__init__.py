"""Doors as they answer now."""
