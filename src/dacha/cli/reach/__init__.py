"""Who can reach what, and how it is now."""
