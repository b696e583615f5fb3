"""Who can reach what, computed from the lab alone."""
