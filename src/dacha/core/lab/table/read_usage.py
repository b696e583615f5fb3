"""The table `usage` of `lab.toml`: settings for usage measurements."""

from __future__ import annotations

from dacha.core import units
from dacha.core.errors import BadValue
from dacha.core.lab import fields
from dacha.core.lab.measuring import EVERY_LEAST_S, EVERY_MOST_S, EVERY_S, KEEP_MOST_S, KEEP_S, Measuring
from dacha.core.lab.table.reader import Table
from dacha.core.units import show_duration


def read_usage(t: Table) -> Measuring:
    """What is measured; errors become findings."""
    measuring = Measuring(
        every_s=t.take("every", lambda v: _between(v, EVERY_LEAST_S, EVERY_MOST_S), EVERY_S),
        keep_s=t.take("keep", lambda v: _between(v, 86400.0, KEEP_MOST_S), KEEP_S),
        port=t.take("port", fields.whole(1, 65535), None),
    )
    t.finish()
    return measuring


def _between(value: object, least: float, most: float) -> float:
    seconds = units.duration(value)
    if not least <= seconds <= most:
        raise BadValue(
            f"{value!r} is out of range", f"write a time from {show_duration(least)} to {show_duration(most)}"
        )
    return seconds
