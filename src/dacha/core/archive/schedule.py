"""When a guest is saved to an archive by itself, and which of its earlier archives are kept."""

from __future__ import annotations

import re
from collections.abc import Collection, Mapping
from datetime import UTC, datetime

from dacha.core.named import NamedTuple

DAY_S = 86_400
# The shortest interval (seconds), the default number of archives, and of which each so many is whole.
EVERY_LEAST_S, KEEP, WHOLE_EVERY = 600, 7, 7
# A clock that is set back by less than this (seconds) does not make an archive one of the future.
CLOCK_S = 60
_STAMP = "%Y-%m-%dT%H%M%SZ"
_TIME = r"(\d{4}-\d\d-\d\dT\d{6}Z)"
_MADE = re.compile(rf"\.{_TIME}(?:\.since-{_TIME})?\.guest", re.ASCII)


class Schedule(NamedTuple):
    """A guest's archives: in `folder`, a new one every `every_s` seconds, `keep` of them; with `at_s` after this local
    time of day (seconds since midnight), and `every_s` is a number of days. Each `whole_every`-th is whole, those
    between have what changed since the one before."""

    folder: str
    every_s: float = DAY_S
    at_s: int | None = None
    keep: int = KEEP
    whole_every: int = WHOLE_EVERY


def due(schedule: Schedule, made: Collection[float], now: float, midnight: float) -> bool:
    """True if a new archive is due, if these were `made`. All times are Unix seconds; `midnight` began today's local
    day. What the host slept through is due as soon as it runs again."""
    past = [at for at in made if at <= now + CLOCK_S]
    if schedule.at_s is None:
        return not past or now - max(past) >= schedule.every_s
    start = midnight + schedule.at_s
    # Days are counted from one such time to the next. An hour is added because a day may have 23.
    days = (now - start) // DAY_S - (max(past) + 3600 - start) // DAY_S if past else 0
    return not past or days >= schedule.every_s // DAY_S


def expired(schedule: Schedule, made: Mapping[float, float | None], now: float) -> list[float]:
    """Those of the archives that are no longer kept, oldest first: all but the last ones, and those that they build on.
    `made` has the time that each has the changes since, None for a whole one. Archives of the future are not counted:
    this host's clock, or the one they were made by, was wrong."""
    past = sorted(at for at in made if at <= now + CLOCK_S)
    kept = {*past[-schedule.keep :], *(at for at in made if at > now + CLOCK_S)}
    for at in sorted(kept, reverse=True):
        base = made[at]
        while base in made and base is not None and base not in kept:
            kept.add(base)
            base = made[base]
    return [at for at in past if at not in kept]


def archive_name(lab: str, guest: str, at: float, since: float | None = None) -> str:
    """The file name of an archive that is made at a time (Unix seconds), with the changes since another time."""
    return f"{lab}.{guest}.{_stamp(at)}{'' if since is None else f'.since-{_stamp(since)}'}.guest"


def _stamp(at: float) -> str:
    return datetime.fromtimestamp(at, UTC).strftime(_STAMP)


class NamedArchive(NamedTuple):
    """What the file name of a scheduled archive says: when it was made, and the time that it has the changes since,
    None for a whole one (Unix seconds)."""

    at: float
    since: float | None


def from_name(lab: str, guest: str, name: str) -> NamedArchive | None:
    """What the file name of an archive says; None if it is not a scheduled archive of this guest."""
    prefix = f"{lab}.{guest}"
    found = _MADE.fullmatch(name[len(prefix) :]) if name.startswith(prefix) else None
    if found is None:
        return None
    try:
        times = [datetime.strptime(t, _STAMP).replace(tzinfo=UTC).timestamp() for t in found.groups() if t]
    except ValueError:
        return None
    return NamedArchive(times[0], times[1] if len(times) > 1 else None)
