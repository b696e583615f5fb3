"""Files that clients read, for somebody who is handed a lab: OpenSSH, PuTTY, remote desktop, and a sheet to print."""
