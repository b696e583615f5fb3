"""What is kept of labs: found, moved, renamed, removed."""
