"""Gather the evidence about the path to one service: all questions together, each with its time limit."""

from __future__ import annotations

import os
import time
from ipaddress import ip_address
from typing import TYPE_CHECKING

from dacha.core.apply.observed import OFF, PAUSED, SAVED
from dacha.core.apply.waiting import START, UNAPPLIED, Waiting, moves, waiting
from dacha.core.findings import errors
from dacha.core.lab.model import Guest
from dacha.core.lab.names import host_name
from dacha.core.plan.doors import DoorPlan, endpoint, here
from dacha.core.trace.seen.evidence import (
    NOBODY,
    PASSWORD,
    SHELL,
    Access,
    AdapterSeen,
    AddressSeen,
    Evidence,
    Gathered,
    HostSeen,
    LabSeen,
    NamesSeen,
    RunSeen,
    SourcesSeen,
)
from dacha.core.units import show_size
from dacha.engine.check.startable import nothing_to_start
from dacha.engine.console import recent
from dacha.engine.disks.room import room
from dacha.engine.guest.observe import observe_guest
from dacha.engine.guest.passwords import hashes
from dacha.engine.network.live import live_plan
from dacha.engine.trace.asking import Asked
from dacha.engine.trace.gathering import Gathering, Tell
from dacha.engine.trace.guest import last_run, shows_shell
from dacha.engine.workspace import Workspace
from dacha.host.network import addresses

if TYPE_CHECKING:
    from dacha.core.lab.kinds import Way


def silent(e: Evidence, waits_for: str, limit_s: float) -> None:
    """A callback that does nothing."""


def gather(ws: Workspace, asked: Asked, tell: Tell = silent) -> Evidence:
    """All evidence about one door's path. `tell` is called with what is being waited for, and the evidence so far.
    Raises HostError if this host cannot be examined at all."""
    wish = asked.plan
    door = live_plan(ws).doors[wish.door.guest, wish.door.name]
    guest = ws.lab.guests[door.door.guest]
    way: Way = "own" if door.means == "own" else "kernel" if door.backend == "kernel" else "user"
    seen = observe_guest(ws.home, guest.name)
    place = _place(door, asked.origin)
    run = RunSeen(
        state=seen.state,
        since_s=max(0.0, time.time() - seen.since) if seen.since else None,
        stopped_on_purpose=seen.stopped_on_purpose,
        more_memory=show_size(2 * guest.memory).replace(" ", ""),
        nothing=(lacks.what, lacks.remedy) if (lacks := nothing_to_start(ws, guest)) else None,
    )
    found = Evidence(
        guest=guest.name,
        door=door.door.name,
        service=door.door.service or "tcp",
        system=guest.system,
        port=door.door.to.first,
        way=way,
        origin=asked.origin,
        place=endpoint(*place) if place else None,
        away=door.door.away,
        network=door.adapter.network if door.adapter else "",
        lab=LabSeen(_lab_error(ws), _not_applied(ws, wish, door), moves(wish, door), guest.first_boot),
        run=run,
        link=AdapterSeen(hardware=door.adapter.hardware_address if door.adapter else ""),
        net=_address(ws, door, way),
        host=HostSeen(on_loopback=door.listen.is_loopback),
        sources=SourcesSeen(tuple(str(n) for n in door.door.allow), asked.asker, _admitted(door, asked.asker)),
        gathered=Gathered(untold="" if os.geteuid() == 0 or way == "user" else "only root can read it"),
    )
    if seen.state in (OFF, SAVED):
        lab = found.lab._replace(error=found.lab.error or _unfit(ws, found.network))
        return found._replace(lab=lab, run=run._replace(last=last_run(ws, guest.name)))
    if seen.state == PAUSED:
        # It cannot answer anything: its process's state is all the evidence.
        free = room(ws.home, guest.name) if seen.fault else None
        return found._replace(run=run._replace(status=seen.fault or "paused", room=free))
    if way == "kernel":
        server = ws.plan_without_host.networks[found.network].resolver
        found = found._replace(names=NamesSeen(host_name(ws.lab.name, guest.name), str(server or "")))
    found = found._replace(access=Access(console=_console(ws, guest)))
    return Gathering(ws, door, found, place, seen, asked, tell).run()


def _place(door: DoorPlan, origin: str) -> tuple[str, int] | None:
    """The door's address for its origin; this host probes the same one."""
    lan = addresses.lan_address() if origin != "host" else None
    place = door.enter_at(lan) if lan else None
    return (str(place[0]), place[1]) if place else here(door)


def _address(ws: Workspace, door: DoorPlan, way: Way) -> AddressSeen:
    if door.adapter is None:
        return AddressSeen(gateway=_gateway(ws, door))
    planned = str(door.adapter.address or "")
    known = planned or None if way != "user" else None
    return AddressSeen(known, planned, door.adapter.prefix, _gateway(ws, door))


def _gateway(ws: Workspace, door: DoorPlan) -> str:
    """The gateway of the door's network, if its guests have one: not without a way out."""
    network = door.adapter.network if door.adapter else ""
    if not network or ws.lab.networks[network].kind != "nat":
        return ""
    return str(ws.plan_without_host.networks[network].gateway or "")


def _lab_error(ws: Workspace) -> tuple[str, str] | None:
    wrong = errors(ws.findings())
    return (wrong[0].what, wrong[0].remedy) if wrong else None


def _unfit(ws: Workspace, network: str) -> tuple[str, str] | None:
    """Why this host does not support a guest's network: an interface that is missing, or wireless."""
    from dacha.engine.check.links import bridge_findings

    wrong = [f for f in errors(bridge_findings(ws)) if f.path[1:2] == (network,)]
    return (f"network {network}: {wrong[0].what}", wrong[0].remedy) if wrong else None


def _not_applied(ws: Workspace, wish: DoorPlan, now: DoorPlan) -> Waiting | None:
    """What the door still waits for. Something that was removed since the last apply is another matter, and a later
    hop's."""
    from dacha.engine.apply.pending import pending_changes

    if not ws.home.applied.is_file():
        return UNAPPLIED
    applied = ws.is_applied()
    if applied and now.means == wish.means:
        return None
    found = waiting(wish, now, pending_changes(ws))
    return found if found is None or found.until == START or not applied else None


def _admitted(door: DoorPlan, asker: str | None) -> bool | None:
    if asker is None or not door.door.allow:
        return None
    address = ip_address(asker)
    return any(address.version == n.version and address in n for n in door.door.allow)


def _console(ws: Workspace, guest: Guest) -> str:
    """Who can log in at the guest's console, as far as Dacha knows; "" if its system was set up by others."""
    try:
        if shows_shell(recent(ws.home, guest.name)):
            return SHELL
    except OSError:
        pass
    if hashes(ws.home, guest.name):
        return PASSWORD
    return NOBODY if guest.first_boot and guest.system not in ("windows", "other") else ""
