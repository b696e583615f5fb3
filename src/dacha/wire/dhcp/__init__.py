"""DHCP for IPv4 and IPv6."""
