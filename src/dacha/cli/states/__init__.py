"""Commands about states of guests: snapshots, copies, archives."""
