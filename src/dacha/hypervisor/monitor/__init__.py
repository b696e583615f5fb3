"""Speaking to a running guest: its monitor and its agent."""
