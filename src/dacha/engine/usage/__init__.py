"""What guests use of this host, measured."""
