"""Protocols for port mappings in routers."""
