"""The package managers of families whose setup is known in every part."""

from __future__ import annotations

FAMILIES = {"debian": "apt", "ubuntu": "apt", "fedora": "dnf"}
