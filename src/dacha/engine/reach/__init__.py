"""The present state of doors."""
