"""Doors as they answer now: every one probed with its own protocol, all at once."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable

from dacha.core.plan.doors import DoorPlan, here
from dacha.host.probe.probing import probe_all
from dacha.wire.probes import Verdict, probe_for


def probe_doors(doors: Iterable[DoorPlan], timeout_s: float) -> dict[object, Verdict]:
    """The verdict on each door by (guest, name), within `timeout_s` seconds. UDP has no greeting to wait for, so such
    doors get none."""
    targets = []
    for door in doors:
        place = here(door)
        if place and door.door.protocol == "tcp":
            targets.append(((door.door.guest, door.door.name), *place, probe_for(door.door.service)))
    return probe_all(targets, timeout_s)


def wait_for(
    doors: Iterable[DoorPlan],
    timeout_s: float,
    on_open: Callable[[DoorPlan, float], None],
    on_tick: Callable[[list[DoorPlan]], None] = lambda waiting: None,
    alive: Callable[[str], bool] = lambda guest: True,
    renew: Callable[[DoorPlan], DoorPlan] = lambda door: door,
) -> dict[DoorPlan, Verdict]:
    """Wait until every door answers; returns the last verdict on those that did not within `timeout_s` seconds.

    A door whose guest is no longer `alive` is not waited for; `renew` gives a door as it is known by now, for one whose
    guest has no address yet.
    """
    began = time.monotonic()
    waiting = [d for d in doors if d.door.protocol == "tcp"]
    last: dict[tuple[str, str], tuple[DoorPlan, Verdict]] = {}
    while waiting:
        on_tick(waiting)
        round_began = time.monotonic()
        # Short rounds: a forward accepts before its guest listens, and such a connection stays mute for long.
        waiting = [d if here(d) else renew(d) for d in waiting]
        verdicts = probe_doors(waiting, 0.5)
        for door in list(waiting):
            key = (door.door.guest, door.door.name)
            verdict = verdicts.get(key, Verdict(False, "it has no address yet"))
            if verdict.ok:
                waiting.remove(door)
                last.pop(key, None)
                on_open(door, time.monotonic() - began)
            elif not alive(door.door.guest):
                waiting.remove(door)
                last[key] = (door, Verdict(False, "its guest has ended"))
            else:
                last[key] = (door, verdict)
        if time.monotonic() - began >= timeout_s:
            break
        if waiting:
            time.sleep(max(0.0, round_began + 0.15 - time.monotonic()))
    return dict(last.values())
