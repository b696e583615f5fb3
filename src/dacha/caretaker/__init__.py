"""The long-running process that looks after a lab: it hands out addresses, answers for names, and follows the lab."""
