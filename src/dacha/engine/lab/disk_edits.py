"""Edits of a guest's list of disks. A disk's name identifies its contents; the default name is its position."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import Any

import tomli

from dacha.core.errors import UsageError
from dacha.core.findings import Path
from dacha.core.lab.model import Guest
from dacha.core.lab.text.edits import Edit, Remove, Set
from dacha.core.spelling import did_you_mean
from dacha.engine.disks.kept_disks import as_it_was
from dacha.engine.lab.proposals import disk_size_for, tidy_size, usual
from dacha.engine.workspace import Workspace


def disk_edits(ws: Workspace, guest: Guest, detach: list[str], attach: list[str], add: list[str]) -> list[Edit]:
    """Detach disks, attach kept ones, add empty ones of the sizes `add`. Raises UsageError for an unknown name. Disks
    after a removed one get explicit names first, or they would get the contents of another."""
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
            raise UsageError(f"{guest.name} already has a disk {name}")
        if name not in kept:
            loose = [n for n in kept if n not in names]
            raise UsageError(
                f"no stored disk {name} of {guest.name} exists",
                remedy=f"choose one of the stored disks: {', '.join(loose) if loose else 'none'}",
            )
        as_before = as_it_was(ws, guest.name, name, usual(guest.system).bus)
        edits += _inserted(here, names, written, name, as_before)
    for size in add:
        name = next(str(n) for n in range(len(names), 10_000) if str(n) not in {*names, *kept})
        # A name that equals the position need not be written.
        edits.append(_added(here, names, ({} if name == str(len(names)) else {"name": name}) | {"size": size}, name))
    return edits


def _inserted(
    here: tuple[str, ...], names: list[str], written: list[dict[str, Any]], name: str, disk: dict[str, str]
) -> list[Edit]:
    """Insert a disk at its former position: one named by its number comes before those with higher numbers, because a
    system starts from the first."""
    at = len(names)
    if name.isdecimal():
        at = next((n for n, other in enumerate(names) if other.isdecimal() and int(other) > int(name)), at)
    for n in range(at, len(names)):
        written[n].setdefault("name", names[n])  # by its position so far
    names.insert(at, name)
    written.insert(at, ({} if name == str(at) else {"name": name}) | disk)
    edits: list[Edit] = []
    for n in range(at, len(names) - 1):
        edits.append(Set((*here, n), written[n]))
    last = len(names) - 1
    return [*edits, Set((*here, last), written[last]) if last else Set(here, written)]


def size_edits(guest: Guest, asked: Iterable[str]) -> list[Edit]:
    """Sizes of disks, each as "SIZE" or "DISK=SIZE". Raises UsageError."""
    return [Set((*at, "size"), tidy_size(size)) for at, size in _of_disks(guest, asked)]


def storage_edits(ws: Workspace, guest: Guest, asked: Iterable[str]) -> list[Edit]:
    """Storages of disks, each as "STORAGE" or "DISK=STORAGE"; "none" is the state folder. Raises UsageError."""
    edits: list[Edit] = []
    for at, storage in _of_disks(guest, asked):
        if storage == "none":
            edits.append(Remove((*at, "storage")))
            continue
        if storage not in ws.lab.storages:
            known = did_you_mean(storage, ws.lab.storages, f"add it to {ws.path.name}: [storage.{storage}]")
            raise UsageError(f"the lab has no storage {storage}", remedy=known)
        edits.append(Set((*at, "storage"), storage))
    return edits


def _of_disks(guest: Guest, asked: Iterable[str]) -> Iterator[tuple[Path, str]]:
    """The place of each disk in the lab file, with its value: "VALUE" is the first disk's, or "DISK=VALUE". Raises
    UsageError."""
    names = [d.name for d in guest.disks]
    for text in asked:
        name, _, value = text.rpartition("=")
        if not names or (name and name not in names):
            raise UsageError(
                f"{guest.name} has no disk {name}".rstrip(),
                remedy=did_you_mean(name, names, "add one: --add-disk SIZE"),
            )
        yield ("guest", guest.name, "disk", names.index(name) if name else 0), value


def image_edits(ws: Workspace, guest: Guest, image: str) -> list[Edit]:
    """Another image for the first disk. Raises UsageError if that disk already exists."""
    here = ("guest", guest.name, "disk")
    if not guest.disks:
        size = disk_size_for(ws, image, usual(guest.system).disk)
        return [Set(here, [{"from": image} | ({"size": size} if size else {})])]
    name = guest.disks[0].name
    if name in dict(ws.home.disks(guest.name)):
        raise UsageError(
            f"disk {name} of {guest.name} already exists, and keeps its contents",
            remedy=f"to start from the image with a new disk: dacha guest edit {guest.name} --detach-disk {name}, then "
            f"dacha guest edit {guest.name} --from {image}",
        )
    return [Set((*here, 0, "from"), image)]


def _added(here: tuple[str, ...], names: list[str], disk: dict[str, str], name: str | None = None) -> Edit:
    names.append(name or disk["name"])
    return Set((*here, len(names) - 1), disk) if len(names) > 1 else Set(here, [disk])
