"""People of the lab: their tables in its file, and their access."""
