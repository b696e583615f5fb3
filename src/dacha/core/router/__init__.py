"""Port mappings of the router."""
