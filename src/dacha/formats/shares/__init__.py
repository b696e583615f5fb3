"""Files for SMB servers and for the guests that mount their shares."""
