"""What killed commands left of snapshots: completed, or taken back."""

from __future__ import annotations

import contextlib

from dacha.core.errors import HostError
from dacha.engine.disks import moving
from dacha.engine.home import Home
from dacha.engine.states import copying, records, restoring, taking
from dacha.engine.workspace import Workspace
from dacha.host.files import sweep
from dacha.hypervisor.images import chain, snapshots


def settle_lab(ws: Workspace) -> None:
    """Complete, or take back, what killed commands left of copies, archives and snapshots. The lab's lock must be held.
    Raises DachaError."""
    copying.settle(ws)
    for name in ws.home.guests():
        settle(ws.home, name)


def settle(home: Home, guest: str) -> None:
    """Complete what a killed command left of taking, removing or restoring a snapshot. The lab's lock must be held.
    Raises DachaError."""
    moving.settle(home, guest)
    if not records.folder(home, guest).is_dir():
        return
    sweep(records.folder(home, guest))
    unfinished = [k.snapshot for k in records.read(home, guest) if k.snapshot.stage]
    for snapshot in unfinished:
        records.relink(home, guest, snapshot)
        taking.undo(home, guest, snapshot)
        if not home.is_running(guest):
            for disk in snapshot.disks:
                with contextlib.suppress(HostError):
                    snapshots.free_lost(taking.image(home, guest, disk), chain.key(home.disk(guest, disk)))
    if (identifier := records.restoring(home, guest)) is not None:
        restoring.finish(home, guest, identifier)
