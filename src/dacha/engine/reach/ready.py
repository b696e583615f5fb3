"""Whether a guest's doors respond: waited for by the guests after it, and watched by the caretaker."""

from __future__ import annotations

import time

from dacha.core.apply.observed import BOOTING_S
from dacha.engine.log.journal import note
from dacha.engine.network.live import live_plan
from dacha.engine.reach.doors import wait_for
from dacha.engine.reach.opening import GuestWatcher
from dacha.engine.reach.status import gather
from dacha.engine.workspace import Workspace
from dacha.host.network.addresses import lan_address


def await_ready(ws: Workspace, name: str) -> bool:
    """Wait until every door of a guest that has just started responds, for as long as its `ready-within` allows; False
    if one did not, which is recorded."""
    guest = ws.lab.guests[name]
    plan = live_plan(ws)
    doors = [plan.doors[name, d.name] for d in guest.doors if d.always and not (d.away and d.from_lan)]
    if not doors or not guest.start.ready_s:
        return True
    silent = wait_for(doors, guest.start.ready_s, lan_address(), GuestWatcher(ws))
    if silent:
        note(ws.home, "not-ready", name, for_s=guest.start.ready_s, door=", ".join(d.door.name for d in silent))
    return not silent


def silent_doors(ws: Workspace) -> dict[tuple[str, str], str | None]:
    """Every door of a running guest that should respond: None if it does, else what was seen. A guest that may still be
    booting is left out."""
    found: dict[tuple[str, str], str | None] = {}
    for row in gather(ws, more_s=5.0).guests:
        if row.guest is None or not row.seen.running or time.time() - (row.seen.since or 0.0) < BOOTING_S:
            continue
        for door in row.doors:
            if door.ok or door.silent:
                found[row.name, door.plan.door.name] = door.now if door.silent else None
    return found
