"""The owners of a file in a storage."""

from __future__ import annotations

from pathlib import Path

from dacha.engine.home import Home


def owners(home: Home, file: Path) -> list[Path]:
    """The disks of any lab in this state folder with this file as their contents: links to it, of present and earlier
    guests."""
    real = file.resolve()
    labs = home.folder.parent
    return [link for link in labs.glob("*/guests/*/disk-*.qcow2") if link.is_symlink() and link.resolve() == real]
