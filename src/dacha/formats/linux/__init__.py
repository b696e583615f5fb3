"""Linux kernels, modules and initial file systems."""
