"""What was seen of a way, as plain values: by this host, by a client, and by the guest itself."""
