"""People: whose keys a guest gets, errors in their entries, and what they can reach."""
