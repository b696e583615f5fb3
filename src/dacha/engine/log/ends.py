"""Guests that ended: noticed by the next command or by the caretaker, and recorded once each, with the reason."""

from __future__ import annotations

import contextlib
import fcntl
import os
import time
from collections.abc import Iterable
from pathlib import Path
from typing import Any

from dacha.core.errors import HostError
from dacha.core.log.ends import ORDERLY, End, EndEvidence, end_of
from dacha.engine.console import gave_up
from dacha.engine.home import Home
from dacha.engine.log.journal import note, read
from dacha.engine.record import Record
from dacha.host import cgroup
from dacha.host.files import held, replace_file
from dacha.host.log import kernel_log
from dacha.host.processes import boot_id
from dacha.host.records import DAMAGED, parse

# The end of QEMU's log is enough: it has a line for each change of the run state.
TAIL = 64 << 10


def note_ends(home: Home, names: Iterable[str] | None = None, *, locked: bool = False) -> list[str]:
    """Record every guest whose process ended since the last look; returns their names. `locked`: this process holds the
    lab. Without that, a lab that another command holds is left alone: it may be starting guests."""
    found = []
    for name in home.guests() if names is None else names:
        if home.is_running(name) or not (locked or not held(home.command_lock)):
            continue
        record = home.read(name)
        if record.starts and last_start(home, name) != record.starts and (locked or not held(home.command_lock)):
            found += [name] if _note(home, name, record) else []
    return found


def last_start(home: Home, name: str) -> int:
    """The number of the start whose end is in the log already."""
    number = _read(home, name).get("start")
    return number if isinstance(number, int) else 0


def last_end(home: Home, name: str) -> tuple[End, float] | None:
    """The end of the guest's last start, and when it was (or was noticed: Unix seconds); None if it is not known."""
    raw = _read(home, name)
    try:
        if raw["start"] != home.read(name).starts:
            return None
        return End(raw["reason"], str(raw["words"]), raw["at"]), float(
            raw["noticed"] if raw["at"] is None else raw["at"]
        )
    except DAMAGED:
        return None


def unminded(home: Home) -> list[str]:
    """Guests whose last end the caretaker has not handled yet. They are marked as handled."""
    found = []
    for name in home.guests():
        start = last_start(home, name)
        if not start or home.is_running(name) or start != home.read(name).starts:
            continue
        with contextlib.suppress(OSError, ValueError):
            if int(home.minded_note(name).read_text()) >= start:
                continue
        with contextlib.suppress(HostError):
            replace_file(home.minded_note(name), str(start))
            found.append(name)
    return found


def _read(home: Home, name: str) -> dict[str, Any]:
    try:
        raw = parse(home.end_note(name).read_text())
    except (OSError, ValueError):
        return {}
    return raw if isinstance(raw, dict) else {}


def _note(home: Home, name: str, record: Record) -> bool:
    """Record the end of this start, unless another process does so at this moment."""
    import json

    try:
        fd = os.open(home.end_note(name), os.O_RDWR | os.O_CREAT | os.O_NOFOLLOW | os.O_CLOEXEC, 0o600)
    except OSError:
        return False
    try:
        try:
            fcntl.flock(fd, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            return False
        if last_start(home, name) == record.starts:
            return False
        end = end_of(evidence(home, name, record))
        failed = end.reason not in ORDERLY
        noticed = time.time()
        raw = {"start": record.starts, "reason": end.reason, "words": end.words, "at": end.at, "noticed": noticed}
        try:
            os.ftruncate(fd, 0)
            os.pwrite(fd, json.dumps(raw).encode(), 0)
        except OSError:
            return False  # a full disk: the next look records it
        ours = end.reason in ("asked", "powered-off", "saved")
        note(home, "ended", name, at=end.at, ours=ours, reason=end.reason, text=end.words, failed=failed)
        return True
    finally:
        os.close(fd)


def evidence(home: Home, name: str, record: Record) -> EndEvidence:
    """What is known about the end of a guest's last process."""
    pid = record.process.pid if record.process else 0
    rebooted = record.process is not None and record.process.boot != boot_id()
    killed, fault = None, None
    if pid and not rebooted:
        with contextlib.suppress(OSError, HostError):
            lines = kernel_log.read_log()
            killed, fault = kernel_log.killed_for_memory(lines, pid), kernel_log.crashed(lines, pid)
    if killed is None and not rebooted and cgroup.killed_for_memory(home.lab, name):
        killed = "it reached its memory limit"
    panic = gave_up(home, name)
    boot = record.machine.get("boot") if record.machine else None
    return EndEvidence(
        _tail(home.guest(name) / "qemu.log"), rebooted, record.pressed, record.forced, killed, fault,
        bool(boot and boot.get("once")), panic, _saved_at(home, name),
    )  # fmt: skip


def _saved_at(home: Home, name: str) -> float | None:
    """When the guest was saved (Unix seconds); None if it is not."""
    try:
        return home.saved_note(name).stat().st_mtime
    except OSError:
        return None


def _tail(path: Path) -> str:
    try:
        with path.open("rb") as f:
            f.seek(0, os.SEEK_END)
            f.seek(max(0, f.tell() - TAIL))
            return f.read().decode(errors="replace")
    except OSError:
        return ""


def runs(home: Home, name: str) -> list[tuple[float, float]]:
    """The starts and ends of a guest in the log (Unix seconds), oldest first."""
    found: list[tuple[float, float]] = []
    started = None
    for event in read(home):
        if event.guest == name and event.kind in ("started", "continued"):
            started = event.time
        elif event.guest == name and event.kind == "ended" and started is not None:
            found.append((started, event.time))
            started = None
    return found
