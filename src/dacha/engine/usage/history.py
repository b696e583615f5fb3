"""The measurements that the caretaker stores: a file for each day, one measurement a line."""

from __future__ import annotations

import contextlib
import time
from collections.abc import Iterator
from datetime import UTC, datetime

from dacha.core.errors import UsageError
from dacha.core.named import NamedTuple
from dacha.core.usage.history import Measured, Period, Point, door_totals, from_line, periods, to_line
from dacha.core.usage.usage import DAY_S
from dacha.engine.home import Home
from dacha.engine.log.journal import append
from dacha.engine.usage.doors import door_bytes
from dacha.engine.usage.measure import samples, storage
from dacha.engine.workspace import Workspace
from dacha.host import folders

# Measurements that are this much further apart than planned have a gap between them: the host was off.
GAP = 3.0
# How far back growth is looked at where nothing else is asked for (seconds).
RECENT_S = 7 * DAY_S


def measure(ws: Workspace) -> Measured:
    """Every guest of the lab now."""
    now = samples(ws, agents=False)
    points = {}
    for name in ws.lab.guests:
        stored, process = storage(ws.home, name).size, ws.home.read(name).process
        s = now.get(name)
        points[name] = (
            Point(None, 0.0, 0, None, None, None, None, stored)
            if s is None or process is None
            else Point(
                f"{process.pid}.{process.start}",
                round(s.cpu_s, 2),
                s.resident,
                s.read,
                s.written,
                s.received,
                s.sent,
                stored,
            )
        )
    doors = {door: (b.received, b.sent) for door, b in door_bytes(ws).items()}
    return Measured(time.time(), points, doors)


def store(ws: Workspace, keep_s: float) -> None:
    """Measure, append that to today's file, and delete what is older than `keep_s` seconds. Raises HostError,
    OSError."""
    found = measure(ws)
    folder = folders.make_private(ws.home.usage)
    append(folder / _name(found.at), to_line(found))
    oldest = _name(found.at - keep_s)
    for path in folder.glob("????-??-??"):
        if path.name < oldest:
            path.unlink(missing_ok=True)


def _name(at: float) -> str:
    return datetime.fromtimestamp(at, UTC).strftime("%Y-%m-%d")


def stored(home: Home, since: float) -> Iterator[Measured]:
    """The measurements since a time (Unix seconds); damaged lines are left out."""
    first = _name(since)
    for path in sorted(home.usage.glob("????-??-??")) if home.usage.is_dir() else ():
        if path.name >= first:
            with contextlib.suppress(OSError), path.open(errors="replace") as f:
                yield from (m for line in f if (m := from_line(line)) and m.at >= since)


class Over(NamedTuple):
    """What was measured since `first` (Unix seconds): of each guest, and through each door (bytes in and out, by guest
    and door)."""

    first: float
    guests: dict[str, Period]
    doors: dict[tuple[str, str], tuple[int, int]]

    @property
    def measured_s(self) -> float:
        """For how long somebody measured (seconds): without the time in which this host was off."""
        return max((p.measured_s for p in self.guests.values()), default=0.0)


def over(ws: Workspace, since: float) -> Over:
    """What was measured since a time (Unix seconds). Raises UsageError if that is nothing."""
    rows = list(stored(ws.home, since))
    if len(rows) < 2:
        remedy = (
            "wait for the next measurements" if ws.lab.usage else "add the table [usage] to the lab file, and apply"
        )
        raise UsageError("no measurements of that time are stored", remedy=remedy)
    every_s = ws.lab.usage.every_s if ws.lab.usage else 3600.0
    return Over(rows[0].at, periods(rows, every_s * GAP), door_totals(rows))


def recent_growths(home: Home) -> dict[str, float]:
    """The growth of guests' files over the last days (bytes a day), by guest; without those not measured for long
    enough."""
    recent = periods(list(stored(home, time.time() - RECENT_S)), RECENT_S)
    return {name: p.growth for name, p in recent.items() if p.growth is not None}
