"""Look up names from the command line in the lab, with the most similar name in errors."""

from __future__ import annotations

from dacha.core.errors import UsageError
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
