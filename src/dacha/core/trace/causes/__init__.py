"""Causes that the guest's own reports explain, and what to do about them. A guest may lie: its reports name causes, and
never make a hop fine or broken."""
