"""Making the host match the lab."""
