"""What is printed, and how."""
