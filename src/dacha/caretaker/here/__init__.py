"""What follows this host as it moves: doors of a place, names on the LAN, name servers."""
