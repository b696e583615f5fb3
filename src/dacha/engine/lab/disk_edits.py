"""Edits of a guest's list of disks. A disk keeps its contents by its name, which is its place unless it is written."""

from __future__ import annotations

import tomli

from dacha.core.errors import UsageError
from dacha.core.lab.model import Guest
from dacha.core.lab.text.edits import Edit, Remove, Set
from dacha.core.spelling import did_you_mean
from dacha.engine.disks.kept_disks import as_it_was
from dacha.engine.lab.proposals import usual
from dacha.engine.workspace import Workspace


def disk_edits(ws: Workspace, guest: Guest, detach: list[str], attach: list[str], add: list[str]) -> list[Edit]:
    """Take disks out, put kept ones back, add empty ones of the sizes `add`. Raises UsageError for an unknown name.

    A disk behind one that goes has its name written down first, or it would take over the contents of another.
    """
    here = ("guest", guest.name, "disk")
    written = tomli.loads(ws.text)["guest"][guest.name].get("disk", [])
    written = [written] if isinstance(written, dict) else written
    names = [d.name for d in guest.disks]
    edits: list[Edit] = []
    for name in detach:
        if name not in names:
            raise UsageError(f"{guest.name} has no disk {name}", remedy=did_you_mean(name, names, "dacha guest show"))
        at = names.index(name)
        for n in range(at + 1, len(names)):
            if "name" not in written[n]:
                edits.append(Set((*here, n, "name"), names[n]))
                written[n]["name"] = names[n]
        edits.append(Remove((*here, at)))
        del names[at], written[at]
    kept = dict(ws.home.disks(guest.name))
    for name in attach:
        if name in names:
            raise UsageError(f"{guest.name} has disk {name} already")
        if name not in kept:
            loose = [n for n in kept if n not in names]
            raise UsageError(
                f"no disk {name} is kept for {guest.name}", remedy=f"kept: {', '.join(loose) if loose else 'none'}"
            )
        edits.append(_added(here, names, {"name": name} | as_it_was(ws, guest.name, name, usual(guest.system).bus)))
    for size in add:
        name = next(str(n) for n in range(len(names), 10_000) if str(n) not in {*names, *kept})
        # A name that is also its place needs no word.
        edits.append(_added(here, names, ({} if name == str(len(names)) else {"name": name}) | {"size": size}, name))
    return edits


def _added(here: tuple[str, ...], names: list[str], disk: dict[str, str], name: str | None = None) -> Edit:
    names.append(name or disk["name"])
    return Set((*here, len(names) - 1), disk) if len(names) > 1 else Set(here, [disk])
