"""What is said on one link: ARP, neighbour discovery, router advertisements."""
