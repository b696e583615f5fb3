"""Linux: facts, folders, files, processes, sockets. The only layer that accesses the host."""
