"""A guest's machine: desired, prepared, observed, started, stopped."""
