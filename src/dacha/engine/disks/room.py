"""Free space for a guest's disks: QEMU suspends a guest whose disk cannot grow, until it is resumed."""

from __future__ import annotations

import contextlib
import shutil

from dacha.engine.home import Home


def room(home: Home, guest: str) -> tuple[int, str] | None:
    """The free bytes for its disks at the tightest place, and the folder; None if it has no disks."""
    found: list[tuple[int, str]] = []
    for _, disk in home.disks(guest):
        with contextlib.suppress(OSError):
            place = disk.resolve()
            found.append((shutil.disk_usage(place).free, str(place.parent)))
    return min(found, default=None)
