"""The snapshots of a guest as a list: their tree, and what each costs on this host."""

from __future__ import annotations

import contextlib

from dacha.core.errors import DachaError, PeerError
from dacha.core.named import NamedTuple
from dacha.core.states.snapshot import Snapshot, tree
from dacha.engine.home import Home
from dacha.engine.states import records
from dacha.hypervisor.images import snapshots


class Listed(NamedTuple):
    """A snapshot in the tree: its depth there; the bytes that its removal would free, None if a disk is not readable;
    whether the guest's present state descends from it."""

    guest: str
    depth: int
    snapshot: Snapshot
    cost: int | None
    is_now: bool


def listed(home: Home, guest: str) -> list[Listed]:
    """The complete snapshots of a guest, in the order of their tree."""
    now = records.now(home, guest)
    every = [k.snapshot for k in records.complete(home, guest)]
    return [Listed(guest, depth, s, _cost(home, guest, s), s.id == now) for depth, s in tree(every)]


def _cost(home: Home, guest: str, snapshot: Snapshot) -> int | None:
    """The bytes that only this snapshot uses: in the images of its disks, and in files of its own."""
    cost = 0
    for disk in snapshot.disks:
        path = home.disk(guest, disk).resolve()
        try:
            found = snapshots.in_image(path).get(snapshot.inside)
            if found is None:
                return None
            cost += snapshots.own_bytes(path, found)
        except (DachaError, PeerError):
            return None
    for path in records.folder(home, guest).glob(f"{snapshot.id}.*"):
        with contextlib.suppress(OSError):
            cost += path.stat().st_blocks * 512
    return cost
