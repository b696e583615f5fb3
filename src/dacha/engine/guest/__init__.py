"""A guest's machine: desired, prepared, seen, started, stopped."""
