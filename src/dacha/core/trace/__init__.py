"""The hops of a path, judged from evidence."""
