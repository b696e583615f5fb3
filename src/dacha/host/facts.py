"""What this host has: CPUs, memory, free disk, programs."""

from __future__ import annotations

import os
from collections.abc import Iterable
from pathlib import Path

from dacha.core.plan.check import HostFacts

# Program, the Debian package it comes in, and what it is needed for.
PROGRAMS = (
    ("qemu-system-x86_64", "qemu-system-x86", "runs the guests"),
    ("qemu-img", "qemu-utils", "creates disks"),
    ("ssh", "openssh-client", "dacha connect"),
)


def program(name: str) -> str | None:
    """The full path of a program, looked for in /usr/sbin too; None when it is not there."""
    # Ordinary users often lack /usr/sbin on their PATH. (shutil has this too, and costs a quick command 3 ms.)
    for folder in f"{os.environ.get('PATH', '')}:/usr/sbin:/sbin".split(":"):
        path = f"{folder}/{name}"
        if folder and os.access(path, os.X_OK) and not Path(path).is_dir():
            return path
    return None


def existing(folder: Path) -> Path:
    """The nearest folder that exists on the way up from `folder`."""
    while not folder.exists() and folder != folder.parent:
        folder = folder.parent
    return folder


def facts(stores: Iterable[Path]) -> HostFacts:
    """Cores this process may use, memory as /proc/meminfo has it, free bytes where each store lies."""
    memory = {}
    with open("/proc/meminfo") as f:
        for line in f:
            key, _, rest = line.partition(":")
            memory[key] = int(rest.split()[0]) * 1024
    free = {}
    for store in stores:
        usage = os.statvfs(existing(store))
        free[str(store)] = usage.f_bavail * usage.f_frsize
    return HostFacts(
        cpus=len(os.sched_getaffinity(0)),
        memory=memory["MemTotal"],
        memory_free=memory.get("MemAvailable", memory["MemFree"]),
        disk_free=free,
    )
