"""DNS: the lab's names, and answers of others."""
