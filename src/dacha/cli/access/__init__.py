"""Access to guests: login, console, screen."""
