"""Speaking to the router above this host."""
