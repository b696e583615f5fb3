"""Getting in: login, console, screen."""
