"""The caretaker minds guests: it starts those again that should be, and runs the user's commands at events."""
