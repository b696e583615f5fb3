"""Media: stored, examined, inserted into guests."""
