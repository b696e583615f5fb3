"""Guests started, stopped, paused, and saved to disk."""
