"""Programs that run beside a guest's process, and exit with it."""
