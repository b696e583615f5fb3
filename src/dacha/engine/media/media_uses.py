"""The uses of a medium: every disk based on it and every guest that refers to it, in all known labs.

A disk counts whether a guest has it, it was detached, or its guest has left its lab: it does not work without its
backing image.
"""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

from dacha.core.errors import DachaError
from dacha.core.lab.model import Disk, Lab
from dacha.core.lab.table.read import read_lab
from dacha.core.named import NamedTuple
from dacha.engine.home import Home
from dacha.engine.media.media_store import Kept
from dacha.engine.profiles import profiles
from dacha.engine.workspace import read_text
from dacha.host import folders
from dacha.hypervisor.images import chain

DRIVE = "in its drive"


class Use(NamedTuple):
    """One use: "gauge, disk 0" of the lab "saltmarsh"; `kept` if no guest has that disk now, `drive` for a medium
    in a drive."""

    what: str
    lab: str
    disk: bool = False
    kept: bool = False
    drive: bool = False

    def __str__(self) -> str:
        return f"{self.what:<20} lab {self.lab}{', kept after its guest was removed' if self.kept else ''}"


def uses(kept: Kept, here: Lab | None = None) -> list[Use]:
    """Every use of a medium by the labs of this user; `here` is the present lab, also if it was never applied. Disks
    come first."""
    found: list[Use] = []
    for home in _homes():
        labs = [lab for lab in (_lab(home.owner()), _lab(home.applied)) if lab and lab.name == home.lab]
        found += _disks(home, kept, labs)
        found += [use for lab in labs for use in _named(lab, kept)]
    found += _named(here, kept) if here else []
    built = {(use.lab, use.what.partition(",")[0]) for use in found if use.disk}
    found = [u for u in found if u.disk or (u.lab, u.what.partition(",")[0]) not in built]
    return sorted(dict.fromkeys(found), key=lambda use: (not use.disk, use.lab, use.what))


def _homes() -> Iterator[Home]:
    base = folders.state() / "labs"
    for folder in sorted(base.iterdir()) if base.is_dir() else ():
        yield Home(folder.name)


def _lab(path: Path | None) -> Lab | None:
    """The lab in a file; None if there is none, or it is not readable."""
    try:
        reading = read_lab(read_text(path), profiles()) if path else None
    except DachaError:
        return None
    return reading.lab if reading else None


def _disks(home: Home, kept: Kept, labs: list[Lab]) -> Iterator[Use]:
    for guest in home.guests():
        for name, disk in home.disks(guest):
            try:
                below = [file for file, _ in chain.layers(disk)[1:]]
            except DachaError:
                continue  # its storage is not mounted, or it is damaged: its backing image is unknown
            if any(file == kept.path or file.resolve() == kept.path.resolve() for file in below):
                attached = any(d.name == name for lab in labs for d in _guest_disks(lab, guest))
                yield Use(f"{guest}, disk {name}", home.lab, disk=True, kept=not attached)


def _guest_disks(lab: Lab, name: str) -> tuple[Disk, ...]:
    return lab.guests[name].disks if name in lab.guests else ()


def _named(lab: Lab, kept: Kept) -> Iterator[Use]:
    """Guests that refer to the medium: for a disk to be created, in a drive, or for an installation."""
    names = {kept.name, str(kept.path)}
    for guest in lab.guests.values():
        for word, written in (
            *((f"disk {d.name}", d.base) for d in guest.disks), ("install", guest.install),
            *((DRIVE, m) for m in guest.media),
        ):  # fmt: skip
            if written in names:
                yield Use(f"{guest.name}, {word}", lab.name, drive=written in guest.media and word == DRIVE)
