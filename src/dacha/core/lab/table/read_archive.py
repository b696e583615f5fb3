"""The table `archive` of a guest in `lab.toml`: when it is saved to an archive by itself."""

from __future__ import annotations

import re

from dacha.core import units
from dacha.core.archive.schedule import DAY_S, EVERY_LEAST_S, KEEP, WHOLE_EVERY, Schedule
from dacha.core.errors import BadValue
from dacha.core.lab import fields
from dacha.core.lab.table.reader import Table

_TIME_OF_DAY = re.compile(r"([01]?\d|2[0-3]):([0-5]\d)", re.ASCII)


def read_archive(t: Table) -> Schedule:
    """The schedule in the table; errors become findings."""
    schedule = Schedule(
        folder=t.need("folder", fields.text, '"archives"') or "archives",
        every_s=t.take("every", _interval, DAY_S),
        at_s=t.take("at", _time_of_day, None),
        keep=t.take("keep", fields.whole(1, 1000), KEEP),
        whole_every=t.take("whole-every", fields.whole(1, 100), WHOLE_EVERY),
    )
    t.finish()
    if schedule.at_s is not None and schedule.every_s % DAY_S:
        t.wrong("at", "misplaced", "a time of day requires an interval of whole days", 'such as: every = "1 day"')
    return schedule


def _interval(value: object) -> float:
    seconds = units.duration(value)
    if seconds < EVERY_LEAST_S:
        raise BadValue(f"{value!r} is too short for a schedule", 'write 10 minutes or more: "1 h", "1 day"')
    return seconds


def _time_of_day(value: object) -> int:
    """Seconds since midnight, from "02:30"."""
    found = _TIME_OF_DAY.fullmatch(value) if isinstance(value, str) else None
    if found is None:
        raise BadValue(f"{value!r} is not a time of day", 'write hours and minutes, from 00:00 to 23:59: "02:30"')
    return int(found[1]) * 3600 + int(found[2]) * 60
