"""Into a guest that runs: by its agent, or by a login; what is asked and changed there."""
