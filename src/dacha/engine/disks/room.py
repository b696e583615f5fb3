"""Free space for a guest's disks: QEMU suspends a guest whose disk cannot grow, until it is resumed."""

from __future__ import annotations

import contextlib
import os
from pathlib import Path
from typing import TYPE_CHECKING

from dacha.core.log.alert import BELOW
from dacha.core.units import show_size
from dacha.engine.home import Home

if TYPE_CHECKING:
    from dacha.engine.workspace import Workspace


def room(home: Home, guest: str) -> tuple[int, str] | None:
    """The free bytes for its disks at the tightest place, and the folder; None if it has no disks."""
    found: list[tuple[int, str]] = []
    for _, disk in home.disks(guest):
        with contextlib.suppress(OSError):
            place = disk.resolve()
            found.append((space(place)[0], str(place.parent)))
    return min(found, default=None)


# A file system with less than this free is nearly full, whatever share of it that is.
LOW_BYTES = 512 << 20


def low_places(ws: Workspace, percent: int = BELOW) -> dict[Path, str]:
    """The folders for disks of this lab, the first of each file system, that are nearly full, each in words."""
    folders = {Path(ws.resolve(folder)): f"storage {name}" for name, folder in ws.lab.storages.items()}
    found: dict[Path, str] = {}
    devices: set[int] = set()
    for place, what in {ws.home.folder: "the state folder", **folders}.items():
        with contextlib.suppress(OSError):
            (free, total), device = space(place), place.stat().st_dev
            share = 100 * free / max(1, total)
            if device not in devices and (share < percent or free < LOW_BYTES):
                found[place] = (
                    f"only {show_size(free)} ({share:.0f} %) are free at {place} ({what}); guests whose disks cannot "
                    "grow are suspended"
                )
            devices.add(device)
    return found


def space(place: Path) -> tuple[int, int]:
    """The free and all bytes of the file system of a file or folder. (shutil has this, too, but is slow to load.)"""
    seen = os.statvfs(place)
    return seen.f_bavail * seen.f_frsize, seen.f_blocks * seen.f_frsize
