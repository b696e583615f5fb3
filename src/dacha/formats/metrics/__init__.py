"""Measurements for programs that collect them."""
