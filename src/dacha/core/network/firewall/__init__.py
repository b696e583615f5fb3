"""Firewalls: what the rules of other programs, or of a guest, do with a packet, and the rules that let it pass."""
