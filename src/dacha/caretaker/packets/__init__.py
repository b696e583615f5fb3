"""The packet worker: the unprivileged process that reads what guests send."""
