"""The packet worker: what reads what guests send, without any power."""
