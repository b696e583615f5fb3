"""The monitor and the guest agent of a running guest."""
