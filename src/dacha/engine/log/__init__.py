"""The log of a lab: written by every command and by the caretaker."""
