"""When archives are due, and which are kept: a week and a year in simulated time."""

from __future__ import annotations

import random
from datetime import UTC, datetime

from hypothesis import given
from hypothesis import strategies as st

from dacha.core.archive.schedule import DAY_S, Schedule, archive_name, due, expired, from_name

# A Monday's midnight, in a place whose local time is UTC.
START = datetime(2026, 11, 30, tzinfo=UTC).timestamp()
NIGHTLY = Schedule("archives", DAY_S, at_s=2 * 3600 + 1800, keep=7)


def simulated(schedule: Schedule, days: int, on: list[bool], step_s: int = 600) -> tuple[list[float], list[float]]:
    """Every archive that is made while the host is `on` (by the hour), and those that are kept at the end."""
    made: list[float] = []
    kept: list[float] = []
    now = START
    while now < START + days * DAY_S:
        hour = int(now - START) // 3600
        midnight = now - (now - START) % DAY_S
        if on[hour % len(on)] and due(schedule, kept, now, midnight):
            made.append(now)
            kept.append(now)
            for at in expired(schedule, dict.fromkeys(kept), now):
                kept.remove(at)
        now += step_s
    return made, kept


def test_a_nightly_archive_is_made_each_night_and_a_week_is_kept() -> None:
    made, kept = simulated(NIGHTLY, 21, [True])
    # The first at once, then one a night.
    assert made[0] == START
    assert [(at - START) % DAY_S for at in made[1:]] == [2.5 * 3600] * 21
    assert kept == made[-7:]


def test_what_the_host_slept_through_is_made_when_it_runs_and_the_next_night_again() -> None:
    # Off from midnight to nine each day.
    made, _ = simulated(NIGHTLY, 14, [False] * 9 + [True] * 15)
    assert [(at - START) / DAY_S for at in made] == [n + 9 / 24 for n in range(14)]
    # Off for the second week's first three days: one at once, not three; and the next at its time.
    on = [True] * (7 * 24) + [False] * (3 * 24) + [True] * (4 * 24)
    made, _ = simulated(NIGHTLY, 14, on)
    assert len([at for at in made if 7 * DAY_S <= at - START < 14 * DAY_S]) == 5


def test_each_week_and_each_six_hours() -> None:
    weekly, _ = simulated(NIGHTLY._replace(every_s=7 * DAY_S), 30, [True])
    assert [round((at - START) / DAY_S) for at in weekly[1:]] == [6, 13, 20, 27]
    often, kept = simulated(Schedule("archives", 6 * 3600, keep=3), 2, [True])
    assert [(at - START) / 3600 for at in often] == [0, 6, 12, 18, 24, 30, 36, 42] and len(kept) == 3


def test_a_wrong_clock_deletes_nothing_and_stops_nothing() -> None:
    year = 365 * DAY_S
    future = [START + year, START + year + DAY_S]
    now = START + 3 * 3600
    assert due(NIGHTLY, future, now, START)
    past = [START - n * DAY_S for n in range(9)]
    gone = expired(NIGHTLY, dict.fromkeys([*past, *future]), now)
    assert gone == sorted(past)[:2]


@given(st.lists(st.integers(0, 400 * 24), max_size=40), st.integers(1, 9), st.integers(0, 400 * 24))
def test_the_newest_archives_are_never_deleted(hours: list[int], keep: int, now: int) -> None:
    made = sorted({START + h * 3600.0 for h in hours})
    gone = expired(Schedule("a", keep=keep), dict.fromkeys(made), START + now * 3600)
    left = [at for at in made if at not in gone]
    past = [at for at in made if at <= START + now * 3600]
    assert left[-keep:] == made[-keep:] and len([at for at in left if at in past]) == min(keep, len(past))


@given(st.lists(st.booleans(), min_size=1, max_size=40), st.integers(1, 9), st.integers(0, 45))
def test_an_archive_is_kept_as_long_as_one_that_is_kept_builds_on_it(whole: list[bool], keep: int, now: int) -> None:
    made = {START + n * DAY_S: None if w or n == 0 else START + (n - 1) * DAY_S for n, w in enumerate(whole)}
    gone = expired(Schedule("a", keep=keep), made, START + now * DAY_S)
    left = [at for at in made if at not in gone]
    past = [at for at in made if at <= START + now * DAY_S]
    assert left[-keep:] == list(made)[-keep:] and gone == sorted(gone)
    for at in left:
        assert made[at] is None or made[at] in left
    # No more than that: what is left before the last ones ends with the whole one that they build on.
    if first := [at for at in left if at in past][:-keep]:
        assert made[first[0]] is None and all(made[at] is not None for at in first[1:])


def test_only_the_own_archives_have_a_time() -> None:
    drawn = random.Random(5)
    for _ in range(50):
        at = START + drawn.randrange(10**8)
        since = drawn.choice([None, at - DAY_S])
        name = archive_name("saltmarsh", "gauge", at, since)
        assert from_name("saltmarsh", "gauge", name) == (at, since)
        for lab, guest in (("saltmarsh", "gaug"), ("salt", "gauge"), ("saltmarsh", "gauge2")):
            assert from_name(lab, guest, name) is None
    for name in (
        "gauge.guest",
        "saltmarsh.gauge.2026-13-01T023000Z.guest",
        "saltmarsh.gauge.2026-12-01T023000Z.guest~",
        "saltmarsh.gauge.2026-12-02T023000Z.since-2026-13-01T023000Z.guest",
    ):
        assert from_name("saltmarsh", "gauge", name) is None
