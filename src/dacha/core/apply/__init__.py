"""What is, what should be, and the changes between them."""
