"""The lab against this host."""
