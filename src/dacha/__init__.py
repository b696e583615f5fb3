"""Dacha keeps a lab of virtual machines on one Linux host and makes sure that each can be reached."""

__version__ = "0.1.0"
