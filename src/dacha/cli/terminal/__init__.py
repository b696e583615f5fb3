"""Output to terminals and scripts."""
