"""What guests used over a longer time: measurements, one a line, and what follows from many of them."""

from __future__ import annotations

import json
from collections.abc import Iterable, Mapping
from itertools import pairwise
from typing import Any

from dacha.core.named import NamedTuple
from dacha.core.usage.usage import DAY_S

# A growth is computed from measurements that are at least this far apart (seconds).
GROWTH_LEAST_S = 3600.0
# Counters of bytes that only grow while a guest runs.
COUNTERS = ("read", "written", "received", "sent")


class Point(NamedTuple):
    """One guest at a moment: `run` identifies its process (None: it was off); the counters of `Sample`, its memory on
    this host and the size of its files (bytes)."""

    run: str | None
    cpu_s: float
    resident: int
    read: int | None
    written: int | None
    received: int | None
    sent: int | None
    stored: int


class Measured(NamedTuple):
    """All guests at a moment (Unix seconds); `doors` has the bytes that came in and went out through each door that is
    counted, by guest and door."""

    at: float
    guests: Mapping[str, Point]
    doors: Mapping[tuple[str, str], tuple[int, int]] = {}  # never changed


class Period(NamedTuple):
    """What one guest used: how long it was measured and how long it was on (seconds), its processor time in all
    (seconds), what it used of processors on average and at most while it was on, its memory on average and at most
    (bytes), the bytes that it read, wrote, received and sent (None: not counted), and the bytes a day that its files
    grew by (None: not known)."""

    measured_s: float
    on_s: float
    cpu_s: float
    cpu: float
    cpu_peak: float
    memory: float
    memory_peak: int
    read: int | None
    written: int | None
    received: int | None
    sent: int | None
    growth: float | None


def to_line(measured: Measured) -> str:
    """A measurement as a line of JSON."""
    guests = {name: list(point) for name, point in measured.guests.items()}
    doors = {"doors": [[*door, *both] for door, both in measured.doors.items()]} if measured.doors else {}
    return json.dumps({"at": round(measured.at, 1), "guests": guests, **doors}, separators=(",", ":"))


def from_line(line: str) -> Measured | None:
    """A measurement from its line; None for a damaged one."""
    try:
        raw: dict[str, Any] = json.loads(line)
        doors = {(str(g), str(d)): (int(inward), int(outward)) for g, d, inward, outward in raw.get("doors", ())}
        return Measured(float(raw["at"]), {str(n): _point(values) for n, values in raw["guests"].items()}, doors)
    except (ValueError, TypeError, KeyError, AttributeError):
        return None


def _point(values: list[Any]) -> Point:
    run, cpu_s, resident, *counters, stored = values
    read, written, received, sent = (None if c is None else int(c) for c in counters)
    return Point(None if run is None else str(run), float(cpu_s), int(resident), read, written, received, sent,
                 int(stored))  # fmt: skip


def periods(rows: Iterable[Measured], longest_s: float) -> dict[str, Period]:
    """What each guest used over these measurements, in the order of their times. Between two that are further apart
    than `longest_s` nobody measured: only what counters tell about such a gap is included."""
    ordered = sorted(rows, key=lambda m: m.at)
    names = list(dict.fromkeys(name for m in ordered for name in m.guests))
    return {name: _period([(m.at, m.guests[name]) for m in ordered if name in m.guests], longest_s) for name in names}


def _period(points: list[tuple[float, Point]], longest_s: float) -> Period:
    measured = on = cpu = steady = peak = memory = 0.0
    most = max((p.resident for _, p in points), default=0)
    totals: dict[str, int | None] = dict.fromkeys(COUNTERS)
    for (before, old), (at, new) in pairwise(points):
        seconds = at - before
        if seconds <= 0:
            continue  # the clock was set back
        if seconds <= longest_s:
            measured += seconds
        if new.run is None:
            continue
        same = old.run == new.run
        used = max(0.0, new.cpu_s - (old.cpu_s if same else 0.0))
        cpu += used
        if same and seconds <= longest_s:
            on += seconds
            steady += used
            memory += new.resident * seconds
            peak = max(peak, used / seconds)
        for name in totals:
            now, then = getattr(new, name), getattr(old, name) if same else 0
            if now is not None:
                totals[name] = (totals[name] or 0) + _step(then or 0, now)
    return Period(
        measured, on, cpu, steady / on if on else 0.0, peak, memory / on if on else 0.0, most, totals["read"],
        totals["written"], totals["received"], totals["sent"], _growth(points),
    )  # fmt: skip


def _step(then: int, now: int) -> int:
    """How far a counter went. One that went back was reset, as those of links are when a network is created again."""
    return now - then if now >= then else now


def door_totals(rows: Iterable[Measured]) -> dict[tuple[str, str], tuple[int, int]]:
    """The bytes that came in and went out through each door over these measurements, as in `Measured.doors`."""
    totals: dict[tuple[str, str], tuple[int, int]] = {}
    last: dict[tuple[str, str], tuple[int, int]] = {}
    for measured in sorted(rows, key=lambda m: m.at):
        for door, now in measured.doors.items():
            then, so_far = last.get(door, now), totals.get(door, (0, 0))
            totals[door] = (so_far[0] + _step(then[0], now[0]), so_far[1] + _step(then[1], now[1]))
            last[door] = now
    return totals


def _growth(points: list[tuple[float, Point]]) -> float | None:
    """The slope of the line that fits the sizes best (least squares): one night's clean-up changes it little."""
    if not points or points[-1][0] - points[0][0] < GROWTH_LEAST_S:
        return None
    mean_at = sum(at for at, _ in points) / len(points)
    mean = sum(p.stored for _, p in points) / len(points)
    spread = sum((at - mean_at) ** 2 for at, _ in points)
    slope = sum((at - mean_at) * (p.stored - mean) for at, p in points) / spread if spread else 0.0
    return slope * DAY_S
