"""Move a disk to the storage that the lab file names, while its guest runs or not.

A file `disk-NAME.moving` names the old and the new file until the move is complete. Its link decides: once it leads to
the new file, the next command completes what a killed one left; before, it takes it back.
"""

from __future__ import annotations

import contextlib
import json
import os
from collections.abc import Callable, Iterable
from pathlib import Path

from dacha.core.apply.changes import Change, ChangeMachine, MoveDisk
from dacha.core.errors import DachaError, HostError
from dacha.core.lab.model import Disk
from dacha.engine.disks.disks import Progress, attached
from dacha.engine.disks.storages import storage_folder
from dacha.engine.home import Home
from dacha.engine.workspace import Workspace
from dacha.host import folders
from dacha.host.files import replace_file
from dacha.host.records import parse
from dacha.host.sparse_copy import sparse_copy
from dacha.hypervisor.command_line import QMP
from dacha.hypervisor.images import chain, images, making, snapshots
from dacha.hypervisor.images.image_tool import Image
from dacha.hypervisor.live import moving
from dacha.hypervisor.monitor.qmp import Qmp


def moves(ws: Workspace, away: Iterable[tuple[str, Disk]]) -> list[Change]:
    """The changes that put these disks of guests where the lab file says. One with snapshots moves while its guest is
    off."""
    found: list[Change] = []
    for name, disk in away:
        path = ws.home.disk(name, disk.name)
        if disk.name in attached(ws.home, name) and has_snapshots(path):
            to = f"storage {disk.storage}" if disk.storage else "the state folder"
            found.append(ChangeMachine(name, f"move disk {disk.name} to {to}, as it has snapshots", "disks"))
        else:
            found.append(MoveDisk(name, disk.name, disk.storage, stored(path)))
    return found


def stored(path: Path) -> int:
    """The bytes that a disk's image takes on this host."""
    return path.stat().st_blocks * 512


def has_snapshots(path: Path) -> bool:
    """True if a disk's image has snapshots in it, or may have."""
    try:
        return bool(snapshots.in_image(path.resolve()))
    except DachaError:
        return True  # it is not known: only a copy of the file has everything


def move(ws: Workspace, change: MoveDisk, progress: Progress) -> None:
    """Move a disk. The lab's lock must be held. Raises DachaError; then the guest uses the disk where it was."""
    home, guest = ws.home, ws.lab.guests[change.guest]
    disk = next(d for d in guest.disks if d.name == change.disk)
    home.refuse_if_archived(guest.name)
    link = home.disk(guest.name, disk.name)
    old = link.resolve()
    if (named := images.header(link).backing) and not named.startswith("/"):
        raise HostError(
            f"disk {disk.name} of {guest.name} cannot be moved: it names its backing image by a relative path, {named}",
            remedy=f"copy the guest: dacha guest copy {guest.name} NEW-NAME --whole",
        )
    folder = folders.make_private(storage_folder(ws, disk)) if disk.storage else home.guest(guest.name)
    making.need_space(folder, stored(old), f"disk {disk.name} of {guest.name}", "")
    unique = os.urandom(4).hex()
    name = f"{guest.name}.{disk.name}.{unique}.qcow2" if disk.storage else f".moving.{disk.name}.{unique}"
    note, new = note_of(link), folder / name
    where = {"from": str(old), "to": str(new), "storage": disk.storage is not None}
    replace_file(note, json.dumps(where), 0o600)
    told = _telling(progress, f"moving disk {disk.name} of {guest.name}")
    try:
        if disk.name in attached(home, guest.name):
            _create(link, new, full=disk.full)
            with Qmp(home.run(guest.name) / QMP, timeout_s=60.0) as qmp:
                moving.begin(qmp, disk.name, link, new)
            moving.await_equal(home.run(guest.name), disk.name, told)
        else:
            fd = os.open(new, os.O_RDWR | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC, 0o600)
            try:
                sparse_copy(old, fd, told)
            finally:
                os.close(fd)
    except OSError as e:
        settle_disk(home, guest.name, note)
        raise HostError(f"cannot move disk {disk.name} of {guest.name}", why=e.strerror or str(e)) from e
    except BaseException:
        settle_disk(home, guest.name, note)
        raise
    _relink(link, new, stays=disk.storage is not None)
    settle_disk(home, guest.name, note)


def note_of(link: Path) -> Path:
    """The file that exists while a disk is being moved."""
    return link.with_suffix(".moving")


def _telling(progress: Progress, what: str) -> Callable[[float], None]:
    return lambda share: progress(what, share)


def _create(link: Path, new: Path, *, full: bool) -> None:
    """An image like that of the disk: its size, and its backing image."""
    files, named = chain.layers(link), images.header(link).backing
    size = chain.as_image(link).size
    below = Image(Path(named), files[1][1], size, ()) if len(files) > 1 and named else None
    making.create(new, size=size, base=below, full=full and below is None, key=chain.key(link))
    if images.header(new).backing != named:
        raise HostError(f"cannot create an image with the backing file {named!r}")


def _relink(link: Path, new: Path, *, stays: bool) -> None:
    """Let a disk's path lead to its new file, in one step: a link to a storage, or the file itself."""
    if not stays:
        new.rename(link)
        return
    temporary = link.with_name(f".{link.name}.{os.urandom(4).hex()}.part")
    temporary.symlink_to(new)
    temporary.rename(link)


def settle(home: Home, guest: str) -> None:
    """Complete, or take back, the moves of a guest's disks that killed commands left. The lab's lock must be held.
    Raises DachaError."""
    for note in home.guest(guest).glob("disk-*.moving"):
        settle_disk(home, guest, note)


def settle_disk(home: Home, guest: str, note: Path) -> None:
    """Complete a move whose disk leads to the new file; else take it back. Raises DachaError."""
    try:
        noted = parse(note.read_text())
        old, new, to_storage = Path(noted["from"]), Path(noted["to"]), bool(noted["storage"])
    except (OSError, ValueError, KeyError, TypeError):
        note.unlink(missing_ok=True)  # it was being written: nothing had begun
        return
    link = note.with_suffix(".qcow2")
    disk = link.name.removeprefix("disk-").removesuffix(".qcow2")
    moved = link.is_symlink() and link.resolve() == new.resolve() if to_storage else not link.is_symlink()
    if disk in attached(home, guest):
        with Qmp(home.run(guest) / QMP, timeout_s=60.0) as qmp:
            (moving.switch if moved else moving.cancel)(qmp, disk)
    gone = old if moved else new
    # A disk that left the state folder has its link where its file was.
    if (gone.parent.resolve(), gone.name) != (link.parent.resolve(), link.name):
        with contextlib.suppress(FileNotFoundError):
            gone.unlink()
    for part in new.parent.glob(f".{new.name}.*.part"):
        part.unlink()  # it was being created
    note.unlink(missing_ok=True)
