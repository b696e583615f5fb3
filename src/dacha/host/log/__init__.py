"""What this host itself records, and who runs a command."""
