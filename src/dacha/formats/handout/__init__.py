"""Client files for the recipient of a handout: OpenSSH, PuTTY, remote desktop, and a sheet to print."""
