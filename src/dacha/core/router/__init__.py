"""What the router above the host has to lead in."""
