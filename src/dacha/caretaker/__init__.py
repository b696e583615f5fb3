"""The long-running process that serves a lab: DHCP, DNS, tracking of addresses, restored rules, port mappings."""
