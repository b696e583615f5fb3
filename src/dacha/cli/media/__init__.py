"""Media: kept, judged, put into guests."""
