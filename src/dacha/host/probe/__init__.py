"""Probes of ports, and queries for names."""
