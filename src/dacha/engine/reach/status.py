"""How the lab is now: guests, addresses, doors, and whether each door answers."""

from __future__ import annotations

import time
from ipaddress import IPv4Address
from typing import TYPE_CHECKING, NamedTuple

from dacha.core.apply.changes import Change
from dacha.core.apply.observed import BOOTING_S, HUNG, OFF, PAUSED, ObservedGuest
from dacha.core.lab.model import Guest
from dacha.core.plan.doors import DoorPlan, here, lan_place
from dacha.core.plan.doors import place as written
from dacha.core.units import show_duration
from dacha.engine.apply.pending import pending as pending_changes
from dacha.engine.guest.observe import observe
from dacha.engine.network.live import live_plan, networks_apart
from dacha.engine.workspace import Workspace

if TYPE_CHECKING:
    from dacha.core.router.mapping import Known
    from dacha.wire.probes import Verdict

ON_LAN = "open on the LAN"


class DoorRow(NamedTuple):
    """A door: where it is entered, and whether it answers (`ok` None: not asked) with what was seen, in words."""

    plan: DoorPlan
    origin: str
    place: str
    ok: bool | None
    now: str


class GuestRow(NamedTuple):
    guest: Guest | None
    name: str
    seen: ObservedGuest
    state: str
    addresses: list[str]
    doors: list[DoorRow]


class Status(NamedTuple):
    """The lab's state; `pending` is what `apply` would still do."""

    guests: list[GuestRow]
    pending: list[Change]
    exposed: list[str]


def gather(ws: Workspace, timeout_s: float = 1.5) -> Status:
    """Observe everything and probe every door of a running guest, within about `timeout_s` seconds."""
    # Imported when something is to be asked: a lab that is off is shown without a socket.
    from dacha.host.network.addresses import lan_address

    seen = observe(ws.home, ws.lab.guests)
    pending = pending_changes(ws, seen, ws.plan_without_host)
    plan = live_plan(ws)
    on = {name for name, s in seen.items() if s.running and s.state != PAUSED}
    apart = networks_apart(ws)
    asked = [
        d
        for d in plan.doors.values()
        if d.door.guest in on and _applied(d, seen[d.door.guest]) and not (d.adapter and d.adapter.network in apart)
    ]
    verdicts: dict[object, Verdict] = {}
    if asked:
        from dacha.engine.reach.doors import probe_doors

        verdicts = probe_doors(asked, timeout_s)
    lan = lan_address() if any(d.door.from_lan for d in plan.doors.values()) else None
    router = _router(ws)
    rows = []
    for guest in ws.lab.guests.values():
        s = seen[guest.name]
        addresses = [str(a.address or "by DHCP") for a in plan.adapters_of(guest.name)]
        mine = [
            _led_in(_door_row(plan.doors[guest.name, d.name], s, verdicts, lan), router, by_hand=ws.lab.by_hand)
            for d in guest.doors
        ]
        rows.append(GuestRow(guest, guest.name, s, state_text(s), addresses, mine))
    for name, s in seen.items():
        if name not in ws.lab.guests and s.running:
            rows.append(GuestRow(None, name, s, state_text(s) + ", not in the lab file", [], []))
    exposed = sorted(
        {
            a.network
            for a in plan.adapters.values()
            if seen[a.guest].running
            and ws.lab.networks[a.network].kind == "nat"
            and not plan.networks[a.network].isolated
            and not ws.lab.networks[a.network].by_kernel
        }
    )
    return Status(rows, pending, exposed)


def state_text(seen: ObservedGuest) -> str:
    """A guest's state in words: "on, 12 min"."""
    if seen.state == OFF:
        return "off"
    if seen.installing and seen.state not in (HUNG, PAUSED):
        return f"installing, {show_duration(max(0.0, time.time() - seen.installing))}"
    word = {HUNG: "does not answer"}.get(seen.state, seen.state)
    word = f"{word}, {show_duration(max(0.0, time.time() - seen.since))}" if seen.since else word
    return f"{word}, its TPM lost" if seen.tpm_lost else word


def _applied(door: DoorPlan, seen: ObservedGuest) -> bool:
    if door.backend == "kernel":
        return True  # what its rules lack is a change of its own
    return seen.forwards is None or all(f in seen.forwards for f in door.forwards())


def _door_row(door: DoorPlan, seen: ObservedGuest, verdicts: dict[object, Verdict], lan: IPv4Address | None) -> DoorRow:
    outside = lan_place(door, lan)
    place = outside or here(door)
    origin = "LAN" if outside else "host"
    shown = (
        f"{origin} {written(place[0], door.port if door.port and door.means == 'forward' else place[1])}"
        if place
        else "nowhere"
    )
    verdict = verdicts.get((door.door.guest, door.door.name))
    ok: bool | None = None
    if seen.state == OFF:
        now = "guest is off"
    elif seen.state == PAUSED:
        now = "guest is paused"
    elif not _applied(door, seen):
        ok, now = False, "not open yet: dacha apply"
    elif verdict is None:
        now = "not asked (UDP)" if door.door.protocol == "udp" else "cannot be asked from here"
    elif verdict.ok:
        ok, now = True, "open"
    elif seen.installing:
        now = "not yet: it is installing"
    else:
        young = seen.since is not None and time.time() - seen.since < BOOTING_S
        ok, now = False, _trouble(verdict, young)
    return DoorRow(door, origin, shown, ok, now)


def _router(ws: Workspace) -> Known | None:
    """What the router has granted, of a lab that has doors from outside."""
    if not ws.lab.from_outside:
        return None
    from dacha.engine.router import mappings

    return mappings.read(ws.home)


def _led_in(row: DoorRow, router: Known | None, *, by_hand: bool) -> DoorRow:
    """A door from outside: where it is entered there, and what the router has to do with it."""
    door = row.plan.door
    if router is None or door.origin != "outside" or row.plan.means == "none":
        return row
    from dacha.core.router.mapping import behind

    mapping = router.of(door.guest, door.name, time.time())
    if mapping:
        row = row._replace(origin="outside", place=f"outside {router.address or 'router'}:{mapping.outside_port}")
        above = behind(router.address)
        return row._replace(ok=False, now=f"{ON_LAN}; a NAT above the router: {above}") if row.ok and above else row
    if not row.ok:
        return row
    if by_hand:
        return row._replace(now=f"{ON_LAN}; the router is not asked")
    return row._replace(
        ok=False,
        now=f"{ON_LAN}; the router: {router.why_not(door.guest, door.name) or 'was not asked yet: dacha apply'}",
    )


def _trouble(verdict: Verdict, young: bool) -> str:
    if verdict.seen in ("closes at once", "refuses"):
        return "nothing listens in the guest" + (" yet" if young else "")
    if verdict.seen == "no answer":
        return "no answer" + (" yet: it may be booting" if young else "")
    return verdict.seen
