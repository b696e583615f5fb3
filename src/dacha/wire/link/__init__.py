"""Protocols of a single link: ARP, neighbour discovery, router advertisements."""
