"""Guests that start together, guests that wait for others, and those that do not start at all."""

from __future__ import annotations

from collections.abc import Mapping

from dacha.core.apply.changes import Change, Forwarding, LoadRules, MakeDisk, MakeLink, StartGuest, WriteSeed
from dacha.core.apply.machine import Machine
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


def without(change: Change, machines: Mapping[str, Machine]) -> set[str | None]:
    """The guests that are not started because this change failed."""
    if isinstance(change, MakeDisk | WriteSeed):
        return {change.guest}
    if isinstance(change, MakeLink | LoadRules | Forwarding):
        # A guest without its network, or on one without its rules.
        return {n for n, m in machines.items() if any(a["tap"] for a in m["adapters"])}
    return set()
