"""Archives: one file with a guest."""
