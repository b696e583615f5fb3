"""Observe the host, compare it with the lab, carry out ordered changes. Orchestration only."""
