"""Answer files: what an installer asks of whoever sits in front of it, answered from the lab, each in its own form."""
