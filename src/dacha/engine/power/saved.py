"""A guest's memory on disk: what is recorded with it, and whether it still fits.

Two files in the guest's folder: `saved-memory`, QEMU's own format, and `saved.json`, which exists exactly as long as
the guest is saved. It becomes `continuing.json` the moment before the guest runs again: from then on its disks change,
and its memory on disk belongs to no disk any more.
"""

from __future__ import annotations

import os
import re
from pathlib import Path

from dacha.core.errors import DachaError, HostError
from dacha.core.findings import ERROR, Finding
from dacha.core.named import NamedTuple
from dacha.engine.home import Home
from dacha.engine.workspace import Workspace
from dacha.host.records import DAMAGED, read_record, write_record

VERSION = 1


class Stamp(NamedTuple):
    """A file as it was when the guest was saved: its path, its length (bytes), its time of modification (nanoseconds
    since 1970)."""

    file: str
    size: int
    changed: int


class Saved(NamedTuple):
    """A saved state: since when (Unix seconds); the length of its file (bytes); QEMU's version, and what identifies its
    file; the processor of this host if the guest runs on it ("" if it is emulated); every image of its disks, by the
    disk's name."""

    at: float
    size: int
    qemu: str
    program: str
    processor: str
    disks: dict[str, tuple[Stamp, ...]]


def read(home: Home, name: str) -> Saved | None:
    """The saved state of a guest; None if it has none. Raises HostError for one of a newer Dacha, or if its record is
    damaged."""
    if not home.saved_note(name).is_file():
        return None
    try:
        raw = read_record(home.saved_note(name), VERSION)
        disks = {
            str(disk): tuple(Stamp(str(file), int(size), int(changed)) for file, size, changed in rows)
            for disk, rows in raw["disks"].items()
        }
        return Saved(float(raw["at"]), int(raw["size"]), str(raw["qemu"]), str(raw["program"]),
                     str(raw["processor"]), disks)  # fmt: skip
    except DAMAGED as e:
        raise HostError(f"the record of {name}'s saved memory is damaged", where=str(home.saved_note(name)),
                        remedy=without(name)) from e  # fmt: skip


def write(home: Home, name: str, saved: Saved) -> None:
    """Record a saved state: from now on the guest is saved. Raises HostError."""
    write_record(home.saved_note(name), VERSION, saved._asdict(), 0o600)


def stamps(home: Home, name: str, disks: list[str]) -> dict[str, tuple[Stamp, ...]]:
    """The present stamps of a guest's disks and their backing images. Raises HostError."""
    from dacha.hypervisor.images import chain

    return {disk: tuple(_stamp(file) for file, _ in chain.layers(home.disk(name, disk))) for disk in disks}


def _stamp(file: Path) -> Stamp:
    try:
        seen = file.stat()
    except OSError as e:
        raise HostError(f"cannot examine {file}", why=e.strerror or str(e)) from e
    return Stamp(str(file), seen.st_size, seen.st_mtime_ns)


def discard(home: Home, name: str) -> bool:
    """Delete a guest's saved state; False if it had none."""
    was = home.saved_note(name).exists()
    if was:
        # From here on it is never used again, and what a killed command leaves of it is deleted by the next one.
        os.rename(home.saved_note(name), home.continuing_note(name))
    home.saved_memory(name).unlink(missing_ok=True)
    home.continuing_note(name).unlink(missing_ok=True)
    return was


def findings(ws: Workspace, name: str) -> list[Finding]:
    """Why a guest's saved state no longer fits this host or its disks."""
    what = misfit(ws.home, name)
    if what is None:
        return []
    return [Finding(ERROR, "saved-state", f"guest {name}", what, without(name), ("guest", name), "host")]


def without(name: str) -> str:
    """The way to start a guest whose saved state cannot be used."""
    return (
        "to start it without its saved memory (what it had not written to a disk is lost):\n"
        f"dacha start {name} --discard-saved"
    )


def misfit(home: Home, name: str) -> str | None:
    """Why a guest cannot continue from its saved state; None if it can, or has none."""
    try:
        saved = read(home, name)
    except HostError as e:
        return e.what
    if saved is None:
        return None
    try:
        size = home.saved_memory(name).stat().st_size
    except OSError:
        return f"its saved memory is gone: {home.saved_memory(name)}"
    if size != saved.size:
        return f"its saved memory was changed: {home.saved_memory(name)} has {size} bytes instead of {saved.size}"
    return _disk_misfit(home, name, saved) or host_misfit(saved, home.read(name).machine_type)


def _disk_misfit(home: Home, name: str, saved: Saved) -> str | None:
    for disk, before in saved.disks.items():
        try:
            now = stamps(home, name, [disk])[disk]
        except DachaError as e:
            return f"disk {disk} is not as it was when the guest was saved: {e.what}"
        # A moved disk is the same one; a restored backup is not, whatever its name.
        if [(s.size, s.changed) for s in now] != [(s.size, s.changed) for s in before]:
            return f"disk {disk} was changed since the guest was saved: its memory does not fit this disk"
    return None


def host_misfit(saved: Saved, board: str | None) -> str | None:
    """Why this host cannot run the memory of a guest whose machine has this type; None if it can."""
    from dacha.hypervisor.machine_types import machine_types, program_identity

    known = machine_types()
    if known and board and board not in known.names:
        return f"it was saved with the machine type {board}, which QEMU on this host does not support"
    now = qemu_version() if program_identity() != saved.program else ""
    if now and saved.qemu and _numbers(now) < _numbers(saved.qemu):
        return f"it was saved by QEMU {saved.qemu}, and QEMU on this host is the older version {now}"
    if saved.processor and (here := processor()) != saved.processor:
        return f"it was saved on another processor: {saved.processor}; this host has {here}"
    return None


def qemu_version() -> str:
    """The version of this host's QEMU; "" if it does not tell."""
    import subprocess

    from dacha.host.facts import program

    path = program("qemu-system-x86_64")
    if path is None:
        return ""
    try:
        done = subprocess.run([path, "--version"], capture_output=True, text=True, timeout=60, check=False, cwd="/")
    except (OSError, subprocess.TimeoutExpired):
        return ""
    found = re.search(r"version (\d+(?:\.\d+)+)", done.stdout)
    return found[1] if found else ""


def _numbers(version: str) -> tuple[int, ...]:
    return tuple(int(part) for part in version.split("."))


def processor() -> str:
    """The model of this host's processor, with its features in short: a guest that runs on it keeps using them."""
    from dacha.core.sha256 import sha256

    with open("/proc/cpuinfo") as f:
        first = f.read().partition("\n\n")[0]
    told = {key.strip().replace(" ", "-"): value for key, _, value in (x.partition(":") for x in first.splitlines())}
    digest = sha256()
    digest.update(" ".join(sorted(told.get("flags", "").split())).encode())
    return f"{told.get('model-name', os.uname().machine).strip()} ({digest.hexdigest()[:8]})"
