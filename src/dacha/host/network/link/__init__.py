"""Single links of this host: their state, the commands that change them, and whether they lead to a LAN."""
