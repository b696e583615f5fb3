"""A guest's disks: their place, atomic creation, growth, attaching and detaching while it runs."""

from __future__ import annotations

import os
from collections.abc import Callable
from pathlib import Path

from dacha.core.apply.changes import AttachDisk, MakeDisk
from dacha.core.errors import HostError
from dacha.core.lab.model import Disk
from dacha.engine.disks.owners import owners
from dacha.engine.disks.storages import storage_folder
from dacha.engine.home import Home
from dacha.engine.media.media import base_image
from dacha.engine.workspace import Workspace
from dacha.host import folders
from dacha.host.files import replace_file
from dacha.hypervisor.command_line import QMP
from dacha.hypervisor.images import chain, images, making, passphrases
from dacha.hypervisor.images.passphrases import ASK, CREDENTIAL
from dacha.hypervisor.live import bitmaps, hotplug
from dacha.hypervisor.live.nodes import node_of
from dacha.hypervisor.monitor.qmp import Qmp

# Called with what is being copied, and the finished share (1 at the end).
Progress = Callable[[str, float], None]


def silent(what: str, share: float) -> None:
    """A progress callback that does nothing."""


def make_disk(ws: Workspace, change: MakeDisk, progress: Progress = silent) -> None:
    """Create one disk atomically. Raises HostError."""
    disk, link = change.disk, ws.home.disk(change.guest, change.disk.name)
    base = base_image(ws, disk.base) if disk.base else None
    target, intention = link, link.with_suffix(".making")
    if link.is_symlink():
        # It was created before, and is a link into a storage: a new one in its place would hide a missing mount.
        raise HostError(
            f"the contents of disk {disk.name} of {change.guest} are missing: {link.readlink()}",
            why="the file was removed, or its file system is not mounted",
            remedy=f"mount it; if the contents are lost, remove {link}, and the next apply creates a new disk",
        )
    if disk.storage:
        target, whole = _place(ws.home, folders.make_private(storage_folder(ws, disk)), change, intention)
        if whole:
            # A command was killed between creating it and linking it.
            _settle(link, target, intention, source_of(ws, disk))
            return
    if disk.storage:
        replace_file(intention, str(target), 0o600)
    source = source_of(ws, disk)
    key = passphrases.passphrase(source, chain.words(link), new=True) if source else None
    if base and (disk.copy or base.format not in images.CLONABLE):
        what = f"copying {base.path.name}"
        making.copy(base, target, size=disk.size, full=disk.full, progress=lambda share: progress(what, share), key=key)
    else:
        making.create(target, size=disk.size, base=base, full=disk.full, key=key)
    _settle(link, target, intention, source)


def _place(home: Home, folder: Path, change: MakeDisk, intention: Path) -> tuple[Path, bool]:
    """The file of a disk in its storage's folder, and whether it already exists: its name contains an identifier, so
    that the disks of two guests never collide, whatever their names are or were. Raises HostError if a disk without an
    owner is there that may have been this guest's."""
    try:
        noted = Path(intention.read_text())
    except OSError:
        noted = Path()
    if noted.parent == folder and noted.exists():
        return noted, True
    guest, name = change.guest, change.disk.name
    for part in folder.glob(f".{guest}.{name}.*.part"):
        part.unlink()  # of a command that was killed: this one holds the lab
    # With the present names, and as older versions named them.
    for found in sorted((*folder.glob(f"{guest}.{name}.*.qcow2"), folder / f"{guest}-{name}.qcow2")):
        if found.is_file() and not owners(home, found):
            raise HostError(
                f"a disk of a guest {guest} already exists: {found}",
                why="no guest of this host has it",
                remedy=f"to use it: ln -s {found} {home.disk(guest, name)}\nfor a new disk: move that file elsewhere",
            )
    return folder / f"{guest}.{name}.{os.urandom(4).hex()}.qcow2", False


def _settle(link: Path, target: Path, intention: Path, source: str | None) -> None:
    """Link a new disk, and record its backing images, and the source of its passphrase."""
    if target != link:
        link.symlink_to(target)
    chain.note(link, source)
    intention.unlink(missing_ok=True)


def source_of(ws: Workspace, disk: Disk) -> str | None:
    """Where the passphrase of a disk comes from, by the lab file: a file is named by its absolute path."""
    named = disk.passphrase
    return named if named is None or named == ASK or named.startswith(CREDENTIAL) else str(ws.resolve(named))


def passphrase_trouble(ws: Workspace, guest: str, disk: Disk) -> HostError | None:
    """Why the file with a disk's passphrase cannot be used; None if it can, or if it comes from elsewhere."""
    source = source_of(ws, disk)
    if source is None or source == ASK or source.startswith(CREDENTIAL):
        return None
    try:
        passphrases.passphrase(source, chain.words(ws.home.disk(guest, disk.name)))
    except HostError as e:
        return e
    return None


def follow_sources(ws: Workspace, name: str) -> None:
    """Record where the passphrases of a guest's encrypted disks come from now, by the lab file. Raises HostError."""
    for disk in ws.lab.guests[name].disks:
        link = ws.home.disk(name, disk.name)
        source = source_of(ws, disk)
        if source and link.exists() and chain.passphrase_source(link) not in (None, source):
            chain.note(link, source)


def attached(home: Home, name: str) -> list[str]:
    """The disks that a running guest's process has open, in their order; none of a guest that is off."""
    machine = home.read(name).machine if home.is_running(name) else None
    return [d["name"] for d in machine["disks"]] if machine else []


def grow_disk(home: Home, name: str, disk: str, size: int) -> None:
    """Grow a disk, while its guest runs or not. Raises HostError."""
    if disk not in attached(home, name):
        making.grow(home.disk(name, disk), size, chain.key(home.disk(name, disk)))
        return
    with Qmp(home.run(name) / QMP) as qmp:
        bitmaps.remove_damaged(qmp, disk)
        qmp.execute("block_resize", {"node-name": node_of(qmp, disk), "size": size})


def attach(home: Home, change: AttachDisk) -> None:
    """Attach a disk to a running guest. Raises HostError if it has no free port."""
    with Qmp(home.run(change.guest) / QMP, timeout_s=10.0) as qmp:
        hotplug.attach(qmp, {"name": change.disk, "bus": change.bus}, home.disk(change.guest, change.disk))
    record = home.read(change.guest)
    if record.machine:
        record.machine["disks"].append({"name": change.disk, "bus": change.bus})
        record.buses[change.disk] = change.bus
        record.replugged = True
        home.write(change.guest, record)


def detach(home: Home, name: str, disk: str) -> None:
    """Detach a disk from a running guest. Raises AnswerNo if the guest does not release it."""
    with Qmp(home.run(name) / QMP, timeout_s=10.0) as qmp:
        hotplug.detach(qmp, disk)
    record = home.read(name)
    if record.machine:
        record.machine["disks"] = [d for d in record.machine["disks"] if d["name"] != disk]
        record.replugged = True
        home.write(name, record)
