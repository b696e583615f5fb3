"""This host's links, addresses, rules and settings."""
