"""A control group for each guest: limits of memory, processes and CPU weight (Linux: admin-guide/cgroup-v2).

Only the unified hierarchy is used, and only with the required controllers; without it, a guest has only the limits of
its user and process, and `dacha host` reports that.
"""

from __future__ import annotations

import contextlib
import os
from pathlib import Path

from dacha.core.lab.model import NO_LIMITS, Limits

CONTROLLERS = ("memory", "pids", "cpu")
ROOT, OURS = Path("/sys/fs/cgroup"), "dacha"
# QEMU's own memory: code and buffers, and under software emulation up to a gigabyte of translated code.
ROOM, ROOM_EMULATED = 512 << 20, 1536 << 20
# Threads and processes of one guest: QEMU's own, its disk workers (64 at most), one per virtual CPU.
PROCESSES = 256


def limits_for(memory: int, cpus: int, written: Limits = NO_LIMITS, *, emulated: bool) -> Limits:
    """The limits of a guest with that much memory and that many virtual CPUs: those in the lab file, else derived
    ones."""
    needed = memory + (ROOM_EMULATED if emulated else ROOM)
    return Limits(written.memory or needed, written.processes or PROCESSES + cpus, written.weight)


def missing(root: Path = ROOT) -> str | None:
    """Why guests cannot have control groups here; None if they can."""
    try:
        has = set((root / "cgroup.controllers").read_text().split())
    except OSError:
        return "this host does not use cgroup v2"
    lacks = [c for c in CONTROLLERS if c not in has]
    if lacks:
        return f"cgroup v2 has no controller for {', '.join(lacks)} here"
    if os.geteuid() and root == ROOT:
        return "only root can create control groups"
    return None


def confine(pid: int, lab: str, guest: str, limits: Limits, root: Path = ROOT) -> None:
    """Put a process, with its children, into a group with these limits; unsupported ones are omitted."""
    if missing(root):
        return
    group = root / OURS / lab / guest
    with contextlib.suppress(OSError):
        group.rmdir()  # a new one counts from zero
    with contextlib.suppress(OSError):
        group.mkdir(parents=True, exist_ok=True)
        for above in (root, root / OURS, root / OURS / lab):
            _write(above / "cgroup.subtree_control", " ".join(f"+{c}" for c in CONTROLLERS))
        _write(group / "memory.max", str(limits.memory))
        _write(group / "memory.oom.group", "1")
        _write(group / "pids.max", str(limits.processes))
        _write(group / "cpu.weight", str(limits.weight))
        _write(group / "cgroup.procs", str(pid))


def killed_for_memory(lab: str, guest: str, root: Path = ROOT) -> bool:
    """True if the kernel killed the guest's last process because its group reached its memory limit (memory.events).
    The kernel's log says so, too, but a service may not read it."""
    try:
        text = (root / OURS / lab / guest / "memory.events").read_text()
    except OSError:
        return False
    found = dict(line.split() for line in text.splitlines() if len(line.split()) == 2)
    return found.get("oom_kill", "0") != "0"


def remove(lab: str, guest: str, root: Path = ROOT) -> None:
    """Remove the group of finished processes, and its parents if they are empty."""
    for group in (root / OURS / lab / guest, root / OURS / lab, root / OURS):
        with contextlib.suppress(OSError):
            group.rmdir()


def _write(file: Path, text: str) -> None:
    with contextlib.suppress(OSError):
        file.write_text(text)
