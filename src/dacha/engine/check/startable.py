"""Whether a guest has anything to start from: a kernel, a disk with contents, a medium, or its network."""

from __future__ import annotations

from dacha.core.errors import BadValue
from dacha.core.lab.model import Guest
from dacha.engine.workspace import Workspace
from dacha.hypervisor.images.blank import is_blank


def nothing_to_start(ws: Workspace, guest: Guest) -> BadValue | None:
    """What is missing if the firmware of a guest finds nothing to start from; None if it may find something."""
    if guest.boot or guest.install or guest.media or guest.usb or "network" in guest.boot_order:
        return None
    there = dict(ws.home.disks(guest.name))
    for disk in guest.disks:
        if disk.base or (disk.name in there and not is_blank(there[disk.name])):
            return None
    what = "its disk is empty" if guest.disks else "it has no disk"
    made = any(disk.name in there for disk in guest.disks)
    image = "" if made or not guest.disks else f"dacha guest edit {guest.name} --from IMAGE\nor to install a system: "
    again = f", then dacha restart {guest.name} --force" if ws.home.is_running(guest.name) else ""
    remedy = f"{image}dacha media insert {guest.name} MEDIUM{again}"
    return BadValue(f"{what}, and there is no medium: its firmware finds nothing to start from", remedy)
