"""Linux: facts, folders, files, processes, sockets. The only layer that asks the host."""
