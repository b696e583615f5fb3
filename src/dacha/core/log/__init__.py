"""What happened to a lab: events, their words, and why a guest ended."""
