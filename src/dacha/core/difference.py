"""Desired against observed: the ordered changes that make the host match the lab."""

from __future__ import annotations

from collections.abc import Mapping
from typing import NamedTuple

from dacha.core.changes import (
    Change,
    ChangeMachine,
    ChangeMedium,
    CloseForward,
    GrowDisk,
    MakeDisk,
    MakeHostKey,
    OpenForward,
    StartGuest,
    StopGuest,
    WriteDown,
    WriteSeed,
)
from dacha.core.door_plan import Forward
from dacha.core.lab import Guest, Lab
from dacha.core.machine import Machine, changed
from dacha.core.plan import Plan

OFF, ON, PAUSED, HUNG = "off", "on", "paused", "hung"


class ObservedGuest(NamedTuple):
    """What was seen of one guest.

    `state` is off, on, paused or hung (its process lives, its monitor does not answer); `since` is Unix seconds;
    `machine` and `forwards` are what the running process has, None where that is not known; `disks` are those that
    exist, each with its size in bytes; `left_off` is true when it was stopped on purpose; `installing` is when an
    installation that is not done began.
    """

    state: str = OFF
    pid: int | None = None
    since: float | None = None
    machine: Machine | None = None
    forwards: frozenset[Forward] | None = None
    disks: frozenset[tuple[int, int]] = frozenset()
    host_key: bool = False
    seed: str | None = None
    left_off: bool = False
    installing: float | None = None

    @property
    def running(self) -> bool:
        return self.state != OFF


def difference(
    lab: Lab, plan: Plan, machines: Mapping[str, Machine], observed: Mapping[str, ObservedGuest]
) -> list[Change]:
    """What `apply` would do, in the order in which it would do it. Empty when everything is applied."""
    changes: list[Change] = [WriteDown(path, text) for path, text in plan.chosen.items()]
    changes += [StopGuest(name) for name, seen in observed.items() if name not in lab.guests and seen.running]
    starts: list[tuple[int, int, Change]] = []
    for n, guest in enumerate(lab.guests.values()):
        seen = observed.get(guest.name, ObservedGuest())
        changes += _prepare(guest, machines[guest.name], seen)
        if seen.running:
            changes += _adjust(guest, plan, machines[guest.name], seen)
        elif not seen.left_off:
            starts.append((guest.start.order, n, StartGuest(guest.name)))
    return changes + [start for _, _, start in sorted(starts, key=lambda s: s[:2])]


def _prepare(guest: Guest, wanted: Machine, seen: ObservedGuest) -> list[Change]:
    changes: list[Change] = []
    if not seen.host_key:
        changes.append(MakeHostKey(guest.name))
    for n, disk in enumerate(guest.disks):
        size = dict(seen.disks).get(n)
        if size is not None and disk.size is not None and disk.size > size:
            changes.append(GrowDisk(guest.name, n, disk.size))
        if size is None:
            changes.append(MakeDisk(guest.name, n, disk.size, disk.base, disk.full))
    # A running guest has its seed open; it is written again by its next start.
    if wanted["seed"] and wanted["seed"] != seen.seed and not seen.running:
        changes.append(WriteSeed(guest.name, wanted["seed"]))
    return changes


def _adjust(guest: Guest, plan: Plan, wanted: Machine, seen: ObservedGuest) -> list[Change]:
    changes: list[Change] = []
    if seen.forwards is not None:
        # A forward has to end at the address that the running guest was given, not at a planned new one.
        stale = seen.machine is not None and _moved(seen.machine, wanted)
        doors = [] if stale else [d.name for d in guest.doors]
        desired = {f: name for name in doors for f in plan.doors[guest.name, name].forwards()}
        if not stale:
            changes += [CloseForward(guest.name, f) for f in sorted(seen.forwards - desired.keys())]
        changes += [OpenForward(guest.name, name, f) for f, name in desired.items() if f not in seen.forwards]
    if seen.machine is not None:
        had = seen.machine.get("drives", [])
        if len(had) == len(wanted["drives"]):
            pairs = zip(had, wanted["drives"], strict=True)
            changes += [ChangeMedium(guest.name, n, new) for n, (old, new) in enumerate(pairs) if old != new]
        changes += [ChangeMachine(guest.name, line) for line in changed(seen.machine, wanted)]
    return changes


def _moved(before: Machine, after: Machine) -> bool:
    def addresses(m: Machine) -> list[object]:
        return [a["address"] for a in m["adapters"]]

    return addresses(before) != addresses(after)
