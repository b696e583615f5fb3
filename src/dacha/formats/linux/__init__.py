"""What Linux kernels and their first file systems are made of."""
