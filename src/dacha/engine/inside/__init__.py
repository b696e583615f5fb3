"""Access to running guests by agent or login: queries and changes."""
