"""Programs that run beside a guest's process, and end with it."""
