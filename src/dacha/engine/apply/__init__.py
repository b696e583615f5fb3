"""Make the host match the lab."""
