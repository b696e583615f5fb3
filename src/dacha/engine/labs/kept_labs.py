"""The files of every lab of this user: disks, keys, records, their backing media, and leftovers."""

from __future__ import annotations

import time
from collections.abc import Iterator
from pathlib import Path

from dacha.core.errors import DachaError, UsageError
from dacha.core.lab.model import Lab
from dacha.core.lab.table.read import read_lab
from dacha.core.named import NamedTuple
from dacha.core.spelling import did_you_mean
from dacha.engine import register
from dacha.engine.caretaker import process as caretaking
from dacha.engine.caretaker.unit_file import installed
from dacha.engine.disks.kept_disks import KeptDisk, kept
from dacha.engine.home import Home
from dacha.engine.profiles import profiles
from dacha.engine.workspace import read_text
from dacha.host import accounts, folders


class KeptGuest(NamedTuple):
    """The files of a guest: its disks, and in `beside` other files, in words. `removed` is when it left the lab (Unix
    seconds), None for one that is in it."""

    name: str
    on: bool
    removed: float | None
    disks: tuple[KeptDisk, ...]
    beside: tuple[str, ...]


class KeptLab(NamedTuple):
    """The files of a lab: `size` is the space on this host's disks (bytes), `images` are the backing images of its
    disks."""

    home: Home
    file: Path | None
    guests: tuple[KeptGuest, ...]
    size: int
    images: tuple[Path, ...]
    caretaker: bool
    at_boot: bool

    @property
    def file_there(self) -> bool:
        return self.file is not None and self.file.is_file()


def homes() -> Iterator[Home]:
    """The home of every known lab, by name."""
    base = folders.state() / "labs"
    for folder in sorted(base.iterdir()) if base.is_dir() else ():
        if folder.is_dir() and not folder.name.startswith("."):
            yield Home(folder.name)


def home_named(name: str) -> Home:
    """The home of the lab of that name. Raises UsageError with the most similar one."""
    found = {home.lab: home for home in homes()}
    if name not in found:
        raise UsageError(f"no lab named {name} is known", remedy=did_you_mean(name, found, "see: dacha lab list"))
    return found[name]


def look(home: Home) -> KeptLab:
    """All files of one lab."""
    guests = tuple(_guest(home, name) for name in home.guests())
    images = {file for g in guests for d in g.disks for file in below(d.path)}
    return KeptLab(
        home, home.owner(), guests, taken(home), tuple(sorted(images)),
        caretaking.running(home) is not None, installed(home.lab),
    )  # fmt: skip


def _guest(home: Home, name: str) -> KeptGuest:
    folder, record = home.guest(name), home.read(name)
    console = folder / "console.log"
    beside = [
        word
        for word, there in (
            ("host key", (folder / "host_key").is_file()),
            ("UEFI variables", any(folder.glob("*vars*"))),
            ("TPM", home.tpm(name).is_dir()),
            ("console record", console.is_file() and console.stat().st_size > 0),
        )
        if there
    ]
    disks = tuple(kept(home, name))
    return KeptGuest(name, home.is_running(name), record.removed, disks, tuple(beside))


def below(disk: Path) -> list[Path]:
    """The backing images of a disk; none if they are unknown."""
    from dacha.hypervisor.images import chain

    try:
        return [file for file, _ in chain.layers(disk)[1:]]
    except DachaError:
        return []


def taken(home: Home) -> int:
    """The space of a lab's files on this host's disks (bytes), including those in storages."""
    total = 0
    for path in home.folder.rglob("*"):
        try:
            if not path.is_dir():
                total += path.stat().st_blocks * 512
        except OSError:
            continue  # a link into something that is not mounted
    return total


def lab_in(path: Path | None) -> Lab | None:
    """Return the lab in a file, or None if it cannot be read."""
    try:
        return read_lab(read_text(path), profiles()).lab if path else None
    except DachaError:
        return None


class Leftover(NamedTuple):
    """A leftover: what it is, and the command that shows or removes it."""

    what: str
    remedy: str


def leftovers() -> list[Leftover]:
    """What is left of deleted labs, guests and downloads."""
    from dacha.core.units import show_size
    from dacha.engine.media.media_store import Store

    found = []
    names = set()
    for home in homes():
        names.add(home.lab)
        owner = home.owner()
        if owner is None or not owner.is_file():
            where = f"{owner} no longer exists" if owner else "it was never applied"
            found.append(
                Leftover(f"lab {home.lab}: {where}; it uses {show_size(taken(home))}", f"dacha lab show {home.lab}")
            )
            continue
        for guest in home.guests():
            record = home.read(guest)
            if record.removed is None or home.is_running(guest):
                continue
            since = time.strftime("%-d %B %Y", time.localtime(record.removed))
            disks = ", ".join(name for name, _ in home.disks(guest))
            if disks:
                what = f"lab {home.lab}: disks {disks} of {guest}, kept after it was removed on {since}"
                found.append(Leftover(what, f"dacha lab show {home.lab}"))
    found += [Leftover(f"link {name} belongs to lab {lab}, which has no state on this host", f"ip link delete {name}")
              for name, lab in _links() if lab not in names]  # fmt: skip
    if entries := len(register.gone()) + len(accounts.gone()):
        what = f"{entries} {'entry' if entries == 1 else 'entries'} in this host's register belong to deleted labs"
        found.append(Leftover(what, "dacha host --clear"))
    for part in Store(None).partial():
        found.append(
            Leftover(f"download {part.name}, incomplete at {show_size(part.size)}", f"dacha media remove {part.name}")
        )
    return found


def clear_registers() -> int:
    """Remove register entries of labs and guests whose state was deleted; returns their number. Raises BusyError,
    HostError."""
    entries = len(register.gone()) + len(accounts.gone())
    register.forget_gone()
    accounts.forget_gone()
    return entries


def _links() -> Iterator[tuple[str, str]]:
    """Links with Dacha's alias: their names and labs."""
    from dacha.host.network import iproute

    try:
        links = iproute.links()
    except DachaError:
        return
    for link in links.values():
        if link.alias.startswith("dacha:"):
            yield link.name, link.alias.split(":")[1]
