"""Resources of this host: CPUs, memory, free disk space, programs."""

from __future__ import annotations

import os
from collections.abc import Iterable
from pathlib import Path

from dacha.core.plan.check import HostFacts

# Program, its Debian package, and its purpose.
PROGRAMS = (
    ("qemu-system-x86_64", "qemu-system-x86", "runs the guests"),
    ("qemu-img", "qemu-utils", "creates disks"),
    ("ssh", "openssh-client", "dacha connect"),
)


def program(name: str) -> str | None:
    """The full path of a program, also in /usr/sbin; None if it is not installed."""
    # Ordinary users often lack /usr/sbin in their PATH. (shutil has this, too, but costs a quick command 3 ms.)
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
    """CPUs that this process may use, memory from /proc/meminfo, free bytes at each store."""
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
