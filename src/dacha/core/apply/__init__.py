"""Observed state, desired state, and the changes between them."""
