"""Why QEMU could not open a disk of a guest, from its own messages."""

from __future__ import annotations

from dacha.core.errors import HostError
from dacha.engine.workspace import Workspace
from dacha.host.processes import holder


def refused_disk(ws: Workspace, name: str) -> HostError | None:
    """The reason, if it was a disk that kept a guest from its start."""
    return _disk_in_use(ws, name) or _wrong_passphrase(ws, name)


def _wrong_passphrase(ws: Workspace, name: str) -> HostError | None:
    """Why QEMU did not start, if it could not open an encrypted disk."""
    if "cannot unlock any keyslot" not in (ws.home.guest(name) / "qemu.log").read_text(errors="replace"):
        return None
    from dacha.hypervisor.images import passphrases

    passphrases.forget()
    names = ", ".join(d.name for d in ws.lab.guests[name].disks if d.passphrase)
    return HostError(
        f"the passphrase of a disk of {name} is wrong ({names})",
        why="it does not open the disk; its source is the key `passphrase` of the lab file",
        remedy=f"dacha start {name}, with the right one",
    )


def _disk_in_use(ws: Workspace, name: str) -> HostError | None:
    """Why QEMU did not start, if another program has one of the guest's disks open."""
    if 'Failed to get "write" lock' not in (ws.home.guest(name) / "qemu.log").read_text(errors="replace"):
        return None
    for disk in ws.lab.guests[name].disks:
        path = ws.home.disk(name, disk.name).resolve()
        who = holder(path)
        if who:
            return HostError(
                f"disk {disk.name} of {name} is in use by another program: {who}",
                where=str(path),
                why="concurrent writes would corrupt its contents",
                remedy="end that program, then start the guest again",
            )
    return None
