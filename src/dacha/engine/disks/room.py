"""What is free for a guest's disks: QEMU holds a guest whose disk no longer grows, until it is let go on."""

from __future__ import annotations

import contextlib
import shutil

from dacha.engine.home import Home


def room(home: Home, guest: str) -> tuple[int, str] | None:
    """How many bytes are free for its disks, where it is least, and in which folder; None where it has none."""
    found: list[tuple[int, str]] = []
    for _, disk in home.disks(guest):
        with contextlib.suppress(OSError):
            place = disk.resolve()
            found.append((shutil.disk_usage(place).free, str(place.parent)))
    return min(found, default=None)
