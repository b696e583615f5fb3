"""The folders of a lab's storages on this host."""

from __future__ import annotations

from collections.abc import Collection
from pathlib import Path

from dacha.core.errors import HostError
from dacha.core.lab.model import Disk
from dacha.engine.workspace import Workspace


def storage_folder(ws: Workspace, disk: Disk) -> Path:
    """The folder for a disk's contents. Raises HostError if its storage does not exist."""
    if disk.storage is None:
        return ws.home.folder
    root = ws.resolve(ws.lab.storages[disk.storage])
    if not root.is_dir():
        raise HostError(
            f"the folder of storage {disk.storage} does not exist: {root}",
            why="it was removed, or its file system is not mounted",
            remedy="mount it, or create the folder",
        )
    if (mount := unmounted(root)) is not None:
        raise HostError(
            f"the folder of storage {disk.storage} is on {mount}, where nothing is mounted: {root}",
            why="/etc/fstab names it as a mount point, and disks would be created on the file system below it",
            remedy=f"mount {mount}",
        )
    return root / "disks" / ws.lab.name


def misplaced(ws: Workspace, only: Collection[str] | None) -> list[tuple[str, Disk]]:
    """The disks of these guests, or of all, that are not where the lab file says. Any place below a storage's folder is
    right, whatever the lab was called when the disk was created."""
    found = []
    for name, guest in ws.lab.guests.items():
        for disk in guest.disks if only is None or name in only else ():
            path = ws.home.disk(name, disk.name)
            if disk.storage is None and not path.is_symlink():
                continue
            if disk.storage not in (None, *ws.lab.storages) or not path.exists():
                continue
            try:
                wanted = storage_folder(ws, disk).parents[1].resolve()
            except HostError:
                continue  # another finding reports that its storage does not exist
            if disk.storage is None or not path.resolve().is_relative_to(wanted):
                found.append((name, disk))
    return found


def unmounted(folder: Path, table: Path = Path("/etc/fstab")) -> Path | None:
    """Return the fstab(5) mount point at or above a folder if nothing is mounted there, else None."""
    try:
        rows = [line.split("#")[0].split() for line in table.read_text(errors="replace").splitlines()]
    except OSError:
        return None
    # A space in a path is written as its octal number.
    points = [Path(row[1].replace("\\040", " ")) for row in rows if len(row) >= 3 and row[1].startswith("/")]
    above = [p for p in points if folder.resolve().is_relative_to(p) and not p.is_mount()]
    return max(above, key=lambda p: len(p.parts), default=None)
