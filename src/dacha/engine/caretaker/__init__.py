"""The caretaker seen from outside."""
