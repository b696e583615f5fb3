"""A point in time, as people type it."""

from __future__ import annotations

import re
import time
from datetime import datetime

from dacha.core.errors import BadValue
from dacha.core.units import duration

_DAYS = re.compile(r"\s*(\d+(?:\.\d+)?)\s*(d|days?|w|weeks?)\s*\Z")
_CLOCK = re.compile(r"\d{1,2}:\d\d(:\d\d)?\Z")


def moment(text: str, now: float) -> float:
    """Unix seconds of "2 h" or "3 d" (before `now`), "14:30" (the last one), "2026-11-30", "2026-11-30 14:30", and the
    forms of ISO 8601 with a time zone; without one, local time. Raises BadValue."""
    if days := _DAYS.match(text):
        return now - float(days[1]) * (7 * 86400 if days[2].startswith("w") else 86400)
    if _CLOCK.match(text):
        today = time.strftime("%Y-%m-%d", time.localtime(now))
        at = _iso(f"{today} {text.zfill(5) if text.count(':') == 1 else text.zfill(8)}")
        if at is not None:
            return at if at <= now else at - 86400
    at = _iso(text.strip())
    if at is not None:
        return at
    try:
        return now - duration(text)
    except BadValue:
        raise BadValue(
            f"{text!r} is not a time", 'write such as "2 h", "3 d" (ago), "14:30", "2026-11-30" or "2026-11-30 14:30"'
        ) from None


def _iso(text: str) -> float | None:
    try:
        return datetime.fromisoformat(text).timestamp()
    except (OverflowError, OSError, ValueError):
        return None
