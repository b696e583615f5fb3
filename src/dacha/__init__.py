"""Dacha runs a lab of virtual machines on one Linux host and keeps each of them reachable."""

__version__ = "0.1.0"
