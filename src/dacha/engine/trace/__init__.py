"""Gather the evidence about one path."""
