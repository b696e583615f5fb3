"""Guests that start together, and guests that wait for others."""

from __future__ import annotations

from collections.abc import Mapping

from dacha.core.apply.changes import StartGuest
from dacha.core.lab.model import Guest
from dacha.core.named import NamedTuple


class Wave(NamedTuple):
    """Guests that start together, and those of them whose doors the next ones wait for."""

    starts: list[StartGuest]
    awaited: list[str]


def waves(guests: Mapping[str, Guest], starts: list[StartGuest]) -> list[Wave]:
    """Group the starts by their order. A group waits for guests with `ready-within` in the groups before it."""
    found: list[Wave] = []
    begun = -1
    for change in sorted(starts, key=lambda c: guests[c.guest].start.order):
        order = guests[change.guest].start.order
        if not found or (found[-1].awaited and order > begun):
            found.append(Wave([], []))
        begun = order
        found[-1].starts.append(change)
        if guests[change.guest].start.ready_s:
            found[-1].awaited.append(change.guest)
    if found:
        found[-1].awaited.clear()  # nobody waits for the last ones
    return found
