"""What a guest's system should have inside, and the script that brings it there while the guest runs."""
