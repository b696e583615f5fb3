"""When a guest is saved to an archive by itself, and which of its earlier archives are kept."""

from __future__ import annotations

import re
from collections.abc import Collection
from datetime import UTC, datetime

from dacha.core.named import NamedTuple

DAY_S = 86_400
# The shortest interval (seconds), and the default number of archives.
EVERY_LEAST_S, KEEP = 600, 7
# A clock that is set back by less than this (seconds) does not make an archive one of the future.
CLOCK_S = 60
_STAMP = "%Y-%m-%dT%H%M%SZ"
_MADE = re.compile(r"\.(\d{4}-\d\d-\d\dT\d{6}Z)\.guest", re.ASCII)


class Schedule(NamedTuple):
    """A guest's archives: in `folder`, a new one every `every_s` seconds, `keep` of them; with `at_s` after this local
    time of day (seconds since midnight), and `every_s` is a number of days."""

    folder: str
    every_s: float = DAY_S
    at_s: int | None = None
    keep: int = KEEP


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


def expired(schedule: Schedule, made: Collection[float], now: float) -> list[float]:
    """Those of the archives that are no longer kept, oldest first. Archives of the future are not counted: this host's
    clock, or the one they were made by, was wrong."""
    past = sorted(at for at in made if at <= now + CLOCK_S)
    return past[: -schedule.keep]


def archive_name(lab: str, guest: str, at: float) -> str:
    """The file name of an archive that is made at a time (Unix seconds)."""
    return f"{lab}.{guest}.{datetime.fromtimestamp(at, UTC).strftime(_STAMP)}.guest"


def made_at(lab: str, guest: str, name: str) -> float | None:
    """When the archive with this file name was made; None if it is not a scheduled archive of this guest."""
    prefix = f"{lab}.{guest}"
    found = _MADE.fullmatch(name[len(prefix) :]) if name.startswith(prefix) else None
    if found is None:
        return None
    try:
        return datetime.strptime(found[1], _STAMP).replace(tzinfo=UTC).timestamp()
    except ValueError:
        return None
