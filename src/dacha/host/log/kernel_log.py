"""The kernel's log about a process that no longer exists: that it was killed for memory."""

from __future__ import annotations

import os
import re

# A limit for the number of records: the kernel's buffer holds some ten thousand.
_MOST = 100_000


def read_log() -> list[str]:
    """The texts of the kernel's log since it was started, oldest first (Documentation/ABI/testing/dev-kmsg). Raises
    OSError where this user may not read it."""
    found: list[str] = []
    fd = os.open("/dev/kmsg", os.O_RDONLY | os.O_NONBLOCK | os.O_CLOEXEC)
    try:
        while len(found) < _MOST:
            try:
                record = os.read(fd, 8192)
            except BlockingIOError:
                break
            except BrokenPipeError:
                continue  # this one was overwritten meanwhile: the next is read
            found.append(record.partition(b";")[2].partition(b"\n")[0].decode(errors="replace"))
    finally:
        os.close(fd)
    return found


def killed_for_memory(log: list[str], pid: int) -> str | None:
    """Why the kernel killed this process, in words; None if its log has no such entry."""
    for text in reversed(log):
        found = re.search(rf"(?P<whose>[Mm]emory cgroup out|Out) of memory: Killed process {pid} \(", text)
        if found:
            return "it reached its memory limit" if "cgroup" in found["whose"] else "this host was out of memory"
    return None


def crashed(log: list[str], pid: int) -> str | None:
    """The kernel's message about a crash of this process; None if its log has no such entry."""
    found = (re.search(rf"\S+\[{pid}\]:? (segfault|general protection|trap [a-z ]+)", text) for text in reversed(log))
    return next((f"the kernel reports: {m[1]}" for m in found if m), None)
