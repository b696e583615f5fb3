"""Where a lab's storages are on this host."""

from __future__ import annotations

from pathlib import Path

from dacha.core.errors import HostError
from dacha.core.lab.model import Disk
from dacha.engine.workspace import Workspace


def storage_folder(ws: Workspace, disk: Disk) -> Path:
    """The folder that a disk's contents are to lie in. Raises HostError when its storage is gone."""
    if disk.storage is None:
        return ws.home.folder
    root = ws.resolve(ws.lab.storages[disk.storage])
    if not root.is_dir():
        raise HostError(
            f"the folder of storage {disk.storage} is not there: {root}",
            why="it was removed, or what it lies on is not mounted",
            remedy="mount it, or make the folder",
        )
    return root / "disks" / ws.lab.name
