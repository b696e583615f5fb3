"""Doors that should open: which of them a command waits for, and the environment of that wait."""

from __future__ import annotations

import contextlib
import time
from collections.abc import Collection, Iterable
from ipaddress import IPv4Address

from dacha.core.apply.changes import Change, ChangeMachine, LoadRules, OpenForward, StartGuest
from dacha.core.apply.observed import BOOTING_S, ON
from dacha.core.errors import DachaError
from dacha.core.plan.doors import DoorPlan
from dacha.engine.console import boot_failed, gave_up
from dacha.engine.guest.observe import observe_guest
from dacha.engine.network.live import live_plan, networks_apart
from dacha.engine.reach.doors import Watcher, probe_doors
from dacha.engine.workspace import Workspace
from dacha.host.network.addresses import lan_address
from dacha.hypervisor.command_line import WATCH

# Immediate answers need no wait.
AT_ONCE_S = 0.5


class GuestWatcher(Watcher):
    """The state of a lab's own guests while their doors are waited for."""

    def __init__(self, ws: Workspace, hung: Collection[str] = ()) -> None:
        """`hung` are guests whose process does not respond: their doors are not waited for."""
        self.ws = ws
        self.hung = hung

    def alive(self, guest: str) -> bool:
        return self.ws.home.is_running(guest)

    def stopped(self, guest: str) -> str:
        """Why no service of a guest will respond, in few words: its kernel panicked, or its boot has failed."""
        if self.gave_up(guest):
            return "its kernel panicked"
        return "its boot has failed" if self.boot_failed(guest) else ""

    def boot_failed(self, guest: str) -> str:
        return boot_failed(self.ws.home, guest)

    def gave_up(self, guest: str) -> str | None:
        return gave_up(self.ws.home, guest)

    def renew(self, door: DoorPlan) -> DoorPlan:
        return live_plan(self.ws).doors[door.door.guest, door.door.name]

    def taken(self, guest: str) -> frozenset[tuple[int, IPv4Address, int]] | None:
        if guest in self.hung:
            return frozenset()
        from dacha.hypervisor.live.user_network import taken
        from dacha.hypervisor.monitor.qmp import Qmp

        with contextlib.suppress(OSError, DachaError), Qmp(self.ws.home.run(guest) / WATCH, timeout_s=1.0) as qmp:
            return taken(qmp)
        return None


def opened_doors(ws: Workspace, done: Iterable[Change], waiting: Iterable[Change]) -> list[DoorPlan]:
    """The doors that these changes opened, by themselves or with their guest; `waiting` are changes for a next
    start."""
    done = list(done)
    started = {c.guest for c in done if isinstance(c, StartGuest)}
    opened = {(c.guest, c.door) for c in done if isinstance(c, OpenForward)}
    for loaded in (c for c in done if isinstance(c, LoadRules)):
        opened |= {key for key in loaded.opened if key[0] in started or ws.home.is_running(key[0])}
    # A guest that gets its adapter at its next start is not waited for: its door cannot open before.
    without = {c.guest for c in waiting if isinstance(c, ChangeMachine) and c.part == "link"}
    new = [d for key, d in live_plan(ws).doors.items() if key[0] in started or key in opened]
    return _possible(ws, [d for d in new if d.door.guest not in without])


def coming_doors(ws: Workspace, only: set[str] | None, but: Iterable[DoorPlan]) -> list[DoorPlan]:
    """Doors of guests that were started recently, by a command that did not wait for them; except those in `but`."""
    known = {(d.door.guest, d.door.name) for d in but}
    young = set()
    for name in ws.lab.guests:
        if only is None or name in only:
            seen = observe_guest(ws.home, name, forwards=False)
            if seen.state == ON and not seen.installing and seen.since and time.time() - seen.since < BOOTING_S:
                young.add(name)
    if not young:
        return []
    doors = _possible(ws, [d for key, d in live_plan(ws).doors.items() if key[0] in young and key not in known])
    heard = probe_doors(doors, AT_ONCE_S, lan_address())
    return [d for d in doors if not ((v := heard.get((d.door.guest, d.door.name))) and v.ok)]


def _possible(ws: Workspace, doors: list[DoorPlan]) -> list[DoorPlan]:
    """The doors that this host can reach, and whose server is expected to run."""
    apart = networks_apart(ws) if doors else set()
    return [
        d
        for d in doors
        if d.door.always
        and d.means != "none"
        and d.door.protocol == "tcp"
        and not (d.adapter and d.adapter.network in apart)
    ]
