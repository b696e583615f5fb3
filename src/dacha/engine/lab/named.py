"""Names from the command line: looked up in the lab, with the most similar name in errors; and names for new guests."""

from __future__ import annotations

from dacha.core.errors import BadValue, UsageError
from dacha.core.lab import fields
from dacha.core.lab.model import Door, Guest
from dacha.core.lab.network import Network
from dacha.core.spelling import did_you_mean
from dacha.engine.workspace import Workspace


def guest_named(ws: Workspace, name: str) -> Guest:
    """The guest of that name. Raises UsageError with the most similar one."""
    guest = ws.lab.guests.get(name)
    if guest is None:
        raise UsageError(
            f"no guest {name} exists",
            where=ws.path.name,
            remedy=did_you_mean(name, ws.lab.guests, "add one: dacha guest add NAME"),
        )
    return guest


def network_named(ws: Workspace, name: str) -> Network:
    """The network of that name. Raises UsageError with the most similar one."""
    network = ws.lab.networks.get(name)
    if network is None:
        raise UsageError(
            f"no network {name} exists",
            where=ws.path.name,
            remedy=did_you_mean(name, ws.lab.networks, "add one: dacha network add NAME"),
        )
    return network


def door_named(ws: Workspace, guest: str, name: str | None) -> Door:
    """The guest's door of that name; without a name, its ssh door, or else its first. Raises UsageError."""
    doors = {d.name: d for d in guest_named(ws, guest).doors}
    if not doors:
        raise UsageError(
            f"{guest} has no door{f' {name}' if name else ''}",
            where=ws.path.name,
            remedy=f"dacha door add {guest} {name or 'ssh'} --from host",
        )
    if name is None:
        return next((d for d in doors.values() if d.service == "ssh"), next(iter(doors.values())))
    if name not in doors:
        raise UsageError(
            f"{guest} has no door {name}",
            where=ws.path.name,
            remedy=did_you_mean(name, doors, f"it has: {', '.join(doors)}"),
        )
    return doors[name]


def refuse_new_name(ws: Workspace, new: str) -> None:
    """Refuse a name for a new guest that is in use, or whose disks still exist. Raises UsageError."""
    try:
        fields.name(new)
    except BadValue as e:
        raise UsageError(f"{e.what} of a guest", remedy=e.remedy) from None
    if new in ws.lab.guests:
        raise UsageError(f"a guest {new} already exists", where=ws.path.name, remedy="choose another name")
    if ws.home.guest(new).exists():
        kept = ", ".join(name for name, _ in ws.home.disks(new)) or "none"
        raise UsageError(
            f"files of an earlier guest {new} still exist (disks: {kept})",
            remedy=f"choose another name, or delete them: dacha guest remove {new} --with-disks, then dacha apply",
        )
