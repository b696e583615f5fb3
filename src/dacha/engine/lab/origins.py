"""Every value of a guest and its origin: a line of the lab file, a profile, the plan, or Dacha's default."""

from __future__ import annotations

from collections.abc import Iterator

import tomli

from dacha.core.findings import Path
from dacha.core.lab.model import Disk, Guest
from dacha.core.lab.text.layout import Places
from dacha.core.named import NamedTuple
from dacha.core.units import exact_size, show_duration, show_size
from dacha.engine.profiles import profiles
from dacha.engine.workspace import Workspace

DEFAULT, PLAN = "Dacha's default", "the plan"


class Value(NamedTuple):
    """A value in readable form, and its origin: "lab.toml:12", "profile debian"."""

    key: str
    shown: str
    source: str


def values_of(ws: Workspace, guest: Guest) -> list[Value]:
    """Every value of one guest, in the order of the lab file's documentation."""
    found = _Sources(ws, guest)
    dots = "{} x {}".format(*guest.resolution) if guest.resolution else "chosen by the firmware"
    start = guest.start
    rows = [
        ("system", guest.system),
        ("cpus", str(guest.cpus)),
        ("memory", show_size(guest.memory)),
        ("cpu", guest.cpu or "default for this accelerator"),
        ("machine-type", _machine_type(ws, guest)),
        ("clock", {"utc": "UTC", "local": "local time"}[guest.clock]),
        ("firmware", guest.firmware.upper()),
        ("secure-boot", _yes(guest.secure_boot)),
        ("tpm", _yes(guest.tpm)),
        ("boot-order", ", ".join(guest.boot_order) if guest.boot is None else "its kernel, directly"),
        ("video", _yes(guest.video)),
        ("resolution", dots if guest.video else "no display"),
        ("archive", _archive(guest)),
        ("start", f"with the host, order {start.order}" if start.at_boot else "not with the host"),
    ]
    # A guest with direct kernel boot has that instead of an order.
    behind = {"boot-order": "boot"} if guest.boot else {}
    first = {"machine-type": "its first start"}
    out = [
        Value(key, shown, found.source(behind.get(key, key), otherwise=first.get(key, DEFAULT))) for key, shown in rows
    ]
    if guest.install:
        out.append(Value("install", guest.install, found.source("install")))
        out.append(Value("answers", _yes(guest.answers), found.source("answers")))
    for n, disk in enumerate(guest.disks):
        where = ("disk", n)
        size = exact_size(disk.size) if disk.size else "size of its image"
        out.append(Value(f"disk {disk.name}", _contents(disk, size), found.source(*where)))
        out.append(Value(f"disk {disk.name} bus", disk.bus, found.source(*where, "bus")))
    out += _setup(found, guest)
    for adapter in ws.plan.adapters_of(guest.name):
        at = ("adapter", adapter.number)
        name = f"adapter {adapter.number}"
        out.append(Value(name, f"on {adapter.network}", found.source(*at)))
        address = f"{adapter.address}/{adapter.prefix}" if adapter.address else "by DHCP"
        out.append(Value(f"{name} address", address, found.source(*at, "address", otherwise=PLAN)))
        if adapter.address6:
            address = f"{adapter.address6}/{adapter.prefix6}"
            out.append(Value(f"{name} address6", address, found.source(*at, "address6", otherwise=PLAN)))
        hardware = str(adapter.hardware_address)
        out.append(Value(f"{name} hardware", hardware, found.source(*at, "hardware-address", otherwise=PLAN)))
        out.append(Value(f"{name} model", adapter.model, found.source(*at, "model")))
    return out


def _archive(guest: Guest) -> str:
    if guest.archive is None:
        return "none"
    every = show_duration(guest.archive.every_s)
    at = (
        f" at {guest.archive.at_s // 3600:02}:{guest.archive.at_s // 60 % 60:02}"
        if guest.archive.at_s is not None
        else ""
    )
    whole = f"1 in {guest.archive.whole_every} whole" if guest.archive.whole_every > 1 else "all whole"
    return f"every {every}{at} to {guest.archive.folder}, {guest.archive.keep} kept, {whole}"


def _machine_type(ws: Workspace, guest: Guest) -> str:
    return guest.machine_type or ws.home.read(guest.name).machine_type or "the newest at its first start"


def _setup(found: _Sources, guest: Guest) -> Iterator[Value]:
    """Its setup, value by value, if there is one."""
    for key, value in guest.setup._asdict().items():
        if value is None or value == ():
            continue
        word = {"files": "file", "users": "user"}.get(key, key.replace("_", "-"))
        shown = (
            ", ".join(str(getattr(x, "name", getattr(x, "path", x))) for x in value) if isinstance(value, tuple) else ""
        )
        shown = shown or (_yes(value) if isinstance(value, bool) else str(value))
        yield Value(f"setup {word}", shown, found.source("setup", word, otherwise=found.like))


def _yes(on: bool) -> str:
    return "yes" if on else "no"


def _contents(disk: Disk, size: str) -> str:
    secret = ", encrypted" if disk.passphrase else ""
    if not disk.base:
        return size + secret
    return f"{size}, {'a copy of' if disk.copy else 'on'} {disk.base}{secret}"


class _Sources:
    """The origins of one guest's keys."""

    def __init__(self, ws: Workspace, guest: Guest) -> None:
        self._name = ws.path.name
        self._data = tomli.loads(ws.text)["guest"][guest.name]
        self._here: Path = ("guest", guest.name)
        own = self._data.get("setup")
        self.like = f"setup {own['like']}" if isinstance(own, dict) and "like" in own else DEFAULT
        self._places = Places(ws.text)
        self._profile, self._filled = profiles().written(guest.system)

    def source(self, *keys: str | int, otherwise: str = DEFAULT) -> str:
        """The origin of the value at `keys`; `otherwise` if neither the lab file nor the profile has it."""
        inner = self._data
        for key in keys:
            if isinstance(inner, dict) and isinstance(key, int):
                continue  # a single table stands for a list of one
            if key not in (inner if isinstance(inner, dict) else range(len(inner))):
                return self._profile if keys[-1] in self._filled else otherwise
            inner = inner[key]
        return f"{self._name}:{self._places.line((*self._here, *keys))}"
