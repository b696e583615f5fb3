"""Whether a guest has enough memory for what it boots."""

from __future__ import annotations

from collections.abc import Iterator

from dacha.core.findings import ERROR, Finding
from dacha.core.lab.model import Guest
from dacha.core.units import show_size
from dacha.engine.workspace import Workspace
from dacha.formats.linux.kernel_memory import HEAD, kernel_memory

MIB = 1 << 20


def memory_findings(ws: Workspace, guest: Guest) -> Iterator[Finding]:
    """A directly booted kernel and initrd that do not fit into the guest's memory: it would start and print nothing."""
    if not guest.boot:
        return
    try:
        with ws.resolve(guest.boot.kernel).open("rb") as f:
            kernel = kernel_memory(f.read(HEAD))
        initrd = ws.resolve(guest.boot.initrd).stat().st_size if guest.boot.initrd else 0
    except OSError:
        return  # another finding reports that it is not readable
    if kernel is None or kernel + initrd <= guest.memory:
        return
    takes = show_size(-(-(kernel + initrd) // MIB) * MIB)
    what = f"its kernel and initrd need {takes}, but it has {show_size(guest.memory)} of memory"
    remedy = f"dacha guest edit {guest.name} --memory {enough(kernel + initrd)}"
    path = ("guest", guest.name, "memory")
    yield Finding(ERROR, "memory-small", f"guest {guest.name}", what, remedy, path, "host")


def enough(taken: int) -> str:
    """A usual size with the same amount again for the running system, in a command's syntax."""
    size = 64 * MIB
    while size < 2 * taken:
        size *= 2
    return show_size(size).replace(" ", "")
