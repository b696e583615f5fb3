"""Processes: identify them, check whether they still run, find which one holds a file or port."""

from __future__ import annotations

import os
from functools import cache
from pathlib import Path

from dacha.core.named import NamedTuple


class Process(NamedTuple):
    """A process, distinguishable from a later one with the same id: id, start (clock ticks since boot), boot."""

    pid: int
    start: int
    boot: str


def process_from(value: object) -> Process | None:
    """The process recorded as a JSON list; None for anything else."""
    match value:
        case [int(pid), int(start), str(boot)]:
            return Process(pid, start, boot)
    return None


@cache
def boot_id() -> str:
    with open("/proc/sys/kernel/random/boot_id") as f:
        return f.read().strip()


def identify(pid: int) -> Process | None:
    """The process with this id, or None if there is none (a zombie counts as none). If its main thread has exited while
    others run, its state is zombie (proc(5)), but it still holds its resources: a killed process on a busy machine is
    in that state for a moment."""
    try:
        with open(f"/proc/{pid}/stat", "rb") as f:
            fields = f.read().rpartition(b")")[2].split()
    except OSError:
        return None
    ended = fields[0] in (b"Z", b"X") and int(fields[17]) <= 1
    return None if ended else Process(pid, int(fields[19]), boot_id())


def alive(process: Process) -> bool:
    """True while exactly this process lives."""
    return identify(process.pid) == process


def started_at(process: Process) -> float:
    """Its start in Unix seconds."""
    with open("/proc/stat", "rb") as f:
        boot = next(int(line.split()[1]) for line in f if line.startswith(b"btime"))
    return boot + process.start / os.sysconf("SC_CLK_TCK")


def wait_gone(process: Process, timeout_s: float) -> bool:
    """Wait until the process has exited; False if it still lives after `timeout_s` seconds."""
    try:
        fd = os.pidfd_open(process.pid)
    except ProcessLookupError:
        return True
    try:
        if not alive(process):
            return True
        import select

        ready, _, _ = select.select([fd], [], [], max(0.0, timeout_s))
        return bool(ready)
    finally:
        os.close(fd)


def kill(process: Process) -> None:
    """Terminate exactly this process, never a later one with the same id."""
    try:
        fd = os.pidfd_open(process.pid)
    except ProcessLookupError:
        return
    try:
        # The descriptor refers to the present owner of the id; the signal is sent only if that is ours.
        if alive(process):
            import signal

            signal.pidfd_send_signal(fd, signal.SIGKILL)
    except ProcessLookupError:
        pass
    finally:
        os.close(fd)


def holder(path: Path) -> str | None:
    """A program that has this file open: "qemu-io, process 812"; None if none is visible."""
    try:
        wanted = path.stat()
    except OSError:
        return None
    for entry in Path("/proc").iterdir():
        if not entry.name.isdigit() or int(entry.name) == os.getpid():
            continue
        try:
            for fd in (entry / "fd").iterdir():
                seen = fd.stat()
                if (seen.st_dev, seen.st_ino) == (wanted.st_dev, wanted.st_ino):
                    return f"{(entry / 'comm').read_text().strip()}, process {entry.name}"
        except OSError:
            continue  # it exited, or belongs to another user
    return None
