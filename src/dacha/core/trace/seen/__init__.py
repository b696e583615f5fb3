"""The evidence of a path, as plain values: seen by this host, by a client, and by the guest itself."""
