"""The hops of a way, judged from what was seen."""
