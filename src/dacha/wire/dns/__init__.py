"""DNS: the lab's names, and answers of other servers."""
