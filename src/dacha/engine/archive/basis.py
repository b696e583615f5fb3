"""Whether a guest's next archive needs only what changed since its last one."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Collection

from dacha.core.archive.manifest import Manifest
from dacha.core.archive.marks import NO_MARKS, Marks
from dacha.core.errors import DachaError
from dacha.core.named import NamedTuple
from dacha.engine.archive.due import archives
from dacha.engine.archive.reading import Archive
from dacha.engine.disks.disks import attached
from dacha.engine.home import Home
from dacha.engine.workspace import Workspace
from dacha.hypervisor.command_line import QMP
from dacha.hypervisor.images import images
from dacha.hypervisor.live import bitmaps
from dacha.hypervisor.monitor.qmp import Qmp


class Basis(NamedTuple):
    """What a guest's next archive builds on: the description of its last one, None if it is to be whole; and the
    bitmaps that begin and that it is made by."""

    base: Manifest | None
    marks: Marks


WHOLE = Basis(None, NO_MARKS)


def basis(ws: Workspace, name: str) -> Basis:
    """What the next archive of a guest builds on, by its last one and what QEMU knows of its disks. Only the disks of a
    running guest have bitmaps, and only those that are not encrypted: changes could not be merged without the
    passphrase."""
    schedule, disks = ws.lab.guests[name].archive, dict(ws.home.disks(name))
    inside = attached(ws.home, name)
    plain = all(d in inside and not images.header(path).encrypted for d, path in disks.items())
    if schedule is None or schedule.whole_every <= 1 or not plain:
        return WHOLE
    new, base = os.urandom(8).hex(), _last(ws, name)
    if (
        base and base.id and base.depth + 1 < schedule.whole_every
        and {d.name for d in base.disks} == set(disks) and _all_known(ws.home, name, disks, base.id)
    ):  # fmt: skip
        return Basis(base, Marks(new, base.id))
    return Basis(None, Marks(new))


def _last(ws: Workspace, name: str) -> Manifest | None:
    """The description of a guest's last archive; None without one, or if it cannot be read."""
    there = archives(ws, name)
    if not there:
        return None
    with contextlib.suppress(DachaError, OSError), there[max(there)].file.open("rb") as stream:
        return Archive(stream).manifest
    return None


def _all_known(home: Home, name: str, disks: Collection[str], archive: str) -> bool:
    with contextlib.suppress(DachaError, OSError), Qmp(home.run(name) / QMP, timeout_s=10.0) as qmp:
        return all(bitmaps.usable(qmp, disk, archive) for disk in disks)
    return False


def keep_only(home: Home, name: str, archive: str) -> None:
    """Remove the bitmaps of other archives than this one from the disks of a running guest. Those that stay are removed
    with the next archive."""
    with contextlib.suppress(DachaError, OSError), Qmp(home.run(name) / QMP, timeout_s=10.0) as qmp:
        for disk in attached(home, name):
            bitmaps.remove(qmp, disk, but=archive)
