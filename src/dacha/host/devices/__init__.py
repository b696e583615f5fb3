"""Devices of this host."""
