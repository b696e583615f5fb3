"""Kernel networks: links, rules, and the guests' addresses."""
