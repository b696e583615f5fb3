"""Answer files for unattended installations, generated from the lab, in each installer's format."""
