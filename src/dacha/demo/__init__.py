"""The saltmarsh demonstration: a tiny guest made from Debian packages, and a lab that uses it."""
