"""Port mappings in the router, kept while their doors exist."""
