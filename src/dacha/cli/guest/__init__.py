"""Guests: edited, listed, powered."""
