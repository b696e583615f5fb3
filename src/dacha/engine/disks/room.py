"""What is free for a guest's disks: QEMU holds a guest whose disk no longer grows, until it is let go on."""

from __future__ import annotations

import contextlib
import shutil

from dacha.core.apply.observed import FAULTS, NO_ROOM, ROOM_LEAST
from dacha.core.errors import HostError
from dacha.core.units import show_size
from dacha.engine.home import Home


def room(home: Home, guest: str) -> tuple[int, str] | None:
    """How many bytes are free for its disks, where it is least, and in which folder; None where it has none."""
    found: list[tuple[int, str]] = []
    for _, disk in home.disks(guest):
        with contextlib.suppress(OSError):
            place = disk.resolve()
            found.append((shutil.disk_usage(place).free, str(place.parent)))
    return min(found, default=None)


def without_room(home: Home, guest: str) -> HostError | None:
    """What is to be said where a guest that stands still for want of room would do so again at once."""
    there = room(home, guest)
    if there is None or there[0] >= ROOM_LEAST:
        return None
    return HostError(
        FAULTS[NO_ROOM], why=f"{show_size(there[0])} is free in {there[1]}", remedy="free some space there"
    )
