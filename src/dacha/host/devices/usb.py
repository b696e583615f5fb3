"""The USB devices of this host, as the kernel lists them (sysfs), and what this host itself does with each."""

from __future__ import annotations

import contextlib
import os
import re
from collections.abc import Iterator
from pathlib import Path

from dacha.core.harmless import harmless
from dacha.core.lab.usb import HostDevice, HostUse

SYS, PROC = Path("/sys"), Path("/proc")
_HUB = "09"  # bDeviceClass (USB class codes)
# Keys that only a keyboard for typing has (linux/input-event-codes.h).
_ENTER, _A = 28, 30
_UP = 1  # IFF_UP (netdevice(7))


def devices(sys: Path = SYS, proc: Path = PROC) -> list[HostDevice]:
    """Every USB device, hubs too; none on a host without USB."""
    found = []
    for folder in sorted((sys / "bus/usb/devices").glob("*-*")):
        # An interface of a device has a colon in its name.
        with contextlib.suppress(OSError, ValueError):
            if ":" not in folder.name:
                found.append(_device(folder.resolve(), sys, proc))
    return found


def present(sys: Path = SYS) -> frozenset[tuple[str, str]]:
    """What is plugged in, by port and number: quick, to notice a change."""
    ports = (sys / "bus/usb/devices").glob("*-*")
    return frozenset((p.name, _told(p / "devnum")) for p in ports if ":" not in p.name)


def _device(folder: Path, sys: Path, proc: Path) -> HostDevice:
    maker, product = _told(folder / "manufacturer"), _told(folder / "product")
    names = (product,) if product.lower().startswith(maker.lower()) else (maker, product)
    hub = _told(folder / "bDeviceClass") == _HUB
    return HostDevice(
        bus=int(_told(folder / "busnum")),
        number=int(_told(folder / "devnum")),
        port=folder.name,
        device=f"{_told(folder / 'idVendor')}:{_told(folder / 'idProduct')}".lower(),
        serial=_told(folder / "serial"),
        # A device says of itself what it likes.
        name=harmless(" ".join(n for n in names if n))[:80],
        hub=hub,
        used=() if hub else tuple(_uses(folder, sys, proc)),
    )


def _told(path: Path) -> str:
    """What a file of the kernel says; "" without it."""
    try:
        return path.read_bytes()[:300].decode("utf-8", "replace").strip()
    except OSError:
        return ""


def _uses(folder: Path, sys: Path, proc: Path) -> Iterator[HostUse]:
    """What this host uses a device for."""
    for kind, name, path in _below(folder):
        if kind == "block":
            yield from _block_uses(path, proc)
        elif kind == "net" and int(_told(path / "flags") or "0", 16) & _UP:
            yield HostUse("network", name)
        elif kind == "input" and _keyboard(path) and sum(map(_keyboard, sys.glob("class/input/input*"))) == 1:
            yield HostUse("keyboard")


def _below(folder: Path) -> Iterator[tuple[str, str, Path]]:
    """The devices that the kernel made of this one, by kind and name: .../block/sdb, .../net/eth1, .../input/input5."""
    for at, inner, _ in os.walk(folder):
        here = Path(at)
        if here != folder and (here / "devnum").exists():
            inner.clear()  # another USB device, behind this one
        elif here.name in ("block", "net", "input"):
            yield from ((here.name, name, here / name) for name in sorted(inner))
            inner.clear()


def _keyboard(path: Path) -> bool:
    """True for an input device with the keys of a keyboard: its capabilities are words of hexadecimal, the
    lowest last."""
    words = _told(path / "capabilities/key").split()
    last = int(words[-1], 16) if words else 0
    return bool(last >> _ENTER & 1 and last >> _A & 1)


def _block_uses(path: Path, proc: Path) -> Iterator[HostUse]:
    """What this host uses a disk for, or one of its partitions."""
    mounts = [line.split() for line in _lines(proc / "self/mountinfo")]
    swaps = {line.split()[0].rpartition("/")[2] for line in _lines(proc / "swaps")[1:] if line.split()}
    parts = [path, *sorted(p.parent for p in path.glob("*/partition"))]
    for part in parts:
        number = _told(part / "dev")
        places = [words[4] for words in mounts if len(words) > 4 and words[2] == number]
        if places:
            # mountinfo writes spaces as octal digits (proc(5)).
            where = re.sub(r"\\([0-7]{3})", lambda m: chr(int(m[1], 8)), places[0])
            yield HostUse("mounted", part.name, harmless(where))
        elif part.name in swaps:
            yield HostUse("swap", part.name)
        elif _names(part / "holders"):
            yield HostUse("part-of", part.name, _names(part / "holders")[0])


def _names(folder: Path) -> list[str]:
    return sorted(p.name for p in folder.iterdir()) if folder.is_dir() else []


def _lines(path: Path) -> list[str]:
    try:
        return path.read_text(errors="replace").splitlines()
    except OSError:
        return []
