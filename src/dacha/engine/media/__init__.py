"""Media and images: stored, downloaded, examined, found by name."""
