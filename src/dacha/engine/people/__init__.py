"""People of the lab: their tables in its file, and what each of them can enter."""
