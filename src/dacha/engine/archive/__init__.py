"""Guests saved to one file, and loaded from one."""
