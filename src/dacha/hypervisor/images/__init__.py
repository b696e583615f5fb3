"""Disk images: judged, made, and what each lies on."""
