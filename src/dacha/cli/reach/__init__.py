"""Who can reach what, as planned and as seen now."""
