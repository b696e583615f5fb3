"""First-boot data, and the things that a setup puts into a running guest."""
