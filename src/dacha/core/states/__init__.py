"""States of guests: snapshots, and the tree that they form."""
