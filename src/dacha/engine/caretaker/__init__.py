"""The caretaker as seen by commands."""
