"""The file of a lab's log: one event a line, bounded in size, never in the way of what it records."""

from __future__ import annotations

import contextlib
import os
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from dacha.core.log.event import Event, from_line, to_line
from dacha.engine.home import Home
from dacha.host.files import lock_briefly
from dacha.host.log import system_journal
from dacha.host.log.invoker import invoker

# A file of this many bytes becomes the previous one.
MOST = 4 << 20


def note(
    home: Home, kind: str, guest: str | None = None, *, at: float | None = None, ours: bool = True, **data: Any
) -> None:
    """Record an event, `ours` if this process caused it. A log that cannot be written, as on a full disk, prevents
    nothing."""
    event = Event(time.time() if at is None else at, kind, guest, invoker() if ours else None, data)
    if home.folder.is_dir():
        with contextlib.suppress(OSError):
            append(home.log, to_line(event))
        _to_journal(home, event)


def append(path: Path, line: str) -> None:
    """Append a line. A line that an earlier writer left incomplete, because it was killed, is ended first; one that
    does not fit on the disk is taken back. Raises OSError."""
    fd = _opened(path)
    try:
        size = os.lseek(fd, 0, os.SEEK_END)
        if size > MOST:
            os.replace(path, path.with_name(path.name + ".1"))
            os.close(fd)
            fd = _opened(path)
            size = os.lseek(fd, 0, os.SEEK_END)
        begun = size > 0 and os.pread(fd, 1, size - 1) != b"\n"
        data = (b"\n" if begun else b"") + line.encode(errors="replace") + b"\n"
        if os.write(fd, data) != len(data):
            os.ftruncate(fd, size)
    finally:
        os.close(fd)


def _opened(path: Path) -> int:
    """The log, opened and locked."""
    fd = os.open(path, os.O_RDWR | os.O_APPEND | os.O_CREAT | os.O_NOFOLLOW | os.O_CLOEXEC, 0o600)
    lock_briefly(fd)
    return fd


def _to_journal(home: Home, event: Event) -> None:
    """The same for systemd's journal, with fields."""
    if not system_journal.SOCKET.exists():
        return
    urgent = event.kind in ("failed", "gave-up") or (event.kind == "ended" and event.data.get("failed"))
    fields = {
        "MESSAGE": f"{event.guest or home.lab}: {event.text()}",
        "PRIORITY": "4" if urgent else "6",
        "SYSLOG_IDENTIFIER": "dacha",
        "DACHA_LAB": home.lab,
        "DACHA_KIND": event.kind,
    }
    if event.guest:
        fields["DACHA_GUEST"] = event.guest
    fields |= {f"DACHA_{k.upper().replace('-', '_')}": str(v) for k, v in event.data.items() if v is not None}
    system_journal.send(fields)


def read(home: Home) -> list[Event]:
    """Every event, by its time. Damaged lines are left out."""
    found: list[Event] = []
    for path in (home.log.with_name(home.log.name + ".1"), home.log):
        with contextlib.suppress(OSError):
            text = path.read_bytes().decode(errors="replace")
            found += [event for line in text.split("\n") if (event := from_line(line))]
    return sorted(found, key=lambda e: e.time)


def follow(home: Home, every_s: float = 0.3) -> Iterator[Event | None]:
    """Yield each new event as it is written, and None while nothing new is written."""
    path, place, rest = home.log, _size(home.log), b""
    inode = _inode(path)
    while True:
        if _inode(path) != inode or _size(path) < place:
            inode, place, rest = _inode(path), 0, b""
        with contextlib.suppress(OSError), path.open("rb") as f:
            f.seek(place)
            rest += f.read()
            place = f.tell()
        *lines, rest = rest.split(b"\n")
        for line in lines:
            if event := from_line(line.decode(errors="replace")):
                yield event
        yield None
        time.sleep(every_s)


def _size(path: Path) -> int:
    try:
        return path.stat().st_size
    except OSError:
        return 0


def _inode(path: Path) -> int:
    try:
        return path.stat().st_ino
    except OSError:
        return 0
