"""The present state of the lab: guests, addresses, doors, and whether each door responds."""

from __future__ import annotations

import os
import time
from collections.abc import Callable, Collection, Mapping
from ipaddress import IPv4Address
from typing import TYPE_CHECKING

from dacha.core.apply.changes import LIVE, Caretaker, Change, LoadRules, when_of
from dacha.core.apply.faults import FAULTS
from dacha.core.apply.observed import BOOTING_S, HUNG, OFF, ON, PAUSED, SAVED, ObservedGuest
from dacha.core.apply.waiting import APPLY, ByGuest, Waiting, still_open, waiting
from dacha.core.endpoint import Endpoint
from dacha.core.findings import Finding, errors
from dacha.core.heard import Heard
from dacha.core.lab.model import Guest
from dacha.core.named import NamedTuple
from dacha.core.plan.doors import LOOPBACK, DoorPlan, lan_place
from dacha.core.plan.plan import Plan
from dacha.core.units import show_duration
from dacha.engine.apply.pending import pending_changes
from dacha.engine.disks.room import low_places
from dacha.engine.guest.observe import observe
from dacha.engine.network.live import live_plan, networks_apart
from dacha.engine.reach.rows import DoorRow, GuestRow, Status
from dacha.engine.workspace import Workspace

if TYPE_CHECKING:
    from dacha.core.apply.first_boot_state import FirstBootState
    from dacha.core.log.ends import End
    from dacha.core.network.confinement import Confinement
    from dacha.core.network.uplink import Cut
    from dacha.core.trace.seen.results import RouterSeen
    from dacha.engine.reach.closed_doors import ClosedDoor
    from dacha.engine.reach.outside import RouterLook
    from dacha.wire.probes import Verdict


# A first answer slower than this (seconds) is reported as slow; how long it may take at all.
SLOW_S, PATIENT_S = 2.0, 5.0


class _Seen(NamedTuple):
    """The basis for judging doors: the answers, what they wait for, and this host."""

    verdicts: dict[object, Verdict]
    waits: dict[tuple[str, str], Waiting | None]
    lan: IPv4Address | None
    changed_rules: bool
    others: dict[tuple[str, str], ClosedDoor]
    stopped: dict[str, str]
    cut: Callable[[DoorPlan], Cut | None]


def gather(ws: Workspace, timeout_s: float = 1.5, more_s: float = 0.0, only: Collection[str] | None = None) -> Status:
    """Observe everything and probe every door of a running guest (of `only` these), within about `timeout_s` seconds; a
    service that accepts connections and sends nothing yet has `more_s` seconds more."""
    seen = observe(ws.home, ws.lab.guests)
    ends = _ends(ws, seen)
    pending = pending_changes(ws, seen, ws.plan_without_host)
    plan = live_plan(ws)
    until = time.monotonic() + timeout_s
    outside = _ask_router(ws, plan, seen)
    asked = {n: s for n, s in seen.items() if only is None or n in only}
    looked = _ask_doors(ws, plan, asked, pending, (timeout_s, more_s))
    router = outside.told(until) if outside else {}
    rows = []
    for guest in (g for g in ws.lab.guests.values() if g.name in asked):
        s = seen[guest.name]
        addresses = [str(a.address or "by DHCP") for a in plan.adapters_of(guest.name)]
        mine = [_door_row(ws, plan.doors[guest.name, d.name], s, looked, router) for d in guest.doors]
        told = _first_boot(ws, guest, s)
        state = ", ".join(x for x in (state_text(s), told.words if told else "") if x)
        rows.append(GuestRow(guest, guest.name, s, state, addresses, mine, told, ends.get(guest.name)))
    for name, s in asked.items():
        if name not in ws.lab.guests and s.running:
            rows.append(GuestRow(None, name, s, state_text(s) + ", not in the lab file", [], []))
    on = {name for name, s in seen.items() if s.running}
    exposed = {
        a["network"]
        for name in on & set(ws.lab.guests)
        for a in (seen[name].machine or {"adapters": []})["adapters"]
        if a["tap"] is None and not a["isolated"] and not ws.home.read(name).asks
    }
    served = {a.network for a in plan.adapters.values() if a.guest in on and ws.lab.networks[a.network].managed}
    unserved = served if any(isinstance(c, Caretaker) and c.on for c in pending) else set()
    return Status(
        rows, pending, sorted(exposed), sorted(unserved), still_open(pending), _confinement(ws, pending, on),
        _refused(ws, seen, pending), list(low_places(ws).values()),
    )  # fmt: skip


def _ends(ws: Workspace, seen: Mapping[str, ObservedGuest]) -> dict[str, tuple[End, float]]:
    """Why each guest that is off ended, if it was started here before."""
    off = [name for name, s in seen.items() if s.state in (OFF, SAVED) and ws.home.guest(name).is_dir()]
    if not off:
        return {}
    from dacha.engine.log.ends import last_end, note_ends

    note_ends(ws.home, off)
    return {name: end for name in off if (end := last_end(ws.home, name))}


def _refused(ws: Workspace, seen: Mapping[str, ObservedGuest], pending: list[Change]) -> list[Finding]:
    """What prevents `apply` from changes that it would make."""
    if not any(when_of(c) == LIVE for c in pending):
        return []
    from dacha.engine.check.refused import refused

    return [*errors(ws.findings()), *refused(ws, seen).all]


def _confinement(ws: Workspace, pending: list[Change], on: set[str]) -> Confinement | None:
    if os.geteuid() != 0 or not any(n.managed for n in ws.lab.networks.values()):
        return None
    from dacha.engine.network import confined

    return confined.look(ws, on, changed=any(isinstance(c, LoadRules) for c in pending) and ws.is_applied())


def _first_boot(ws: Workspace, guest: Guest, seen: ObservedGuest) -> FirstBootState | None:
    """The progress of the first boot of a running guest; None without one, or if it is off."""
    if seen.state != ON or seen.installing or not guest.first_boot:
        return None
    from dacha.engine.console import first_boot

    return first_boot(ws.home, guest.name)


def _ask_doors(
    ws: Workspace, plan: Plan, seen: Mapping[str, ObservedGuest], pending: list[Change], times: tuple[float, float]
) -> _Seen:
    """Probe every door that may respond: each from its origin, like a client there."""
    # Imported late: a lab that is off needs no socket.
    from dacha.host.network.addresses import lan_address

    wish = ws.plan_without_host
    changes = ByGuest(pending)
    waits = {key: waiting(wish.doors[key], door, changes.of(key[0])) for key, door in plan.doors.items()}
    lan = lan_address() if any(d.door.from_lan for d in plan.doors.values()) else None
    apart = networks_apart(ws)
    asked = [
        d
        for key, d in plan.doors.items()
        if key[0] in seen
        and seen[key[0]].running
        and seen[key[0]].state != PAUSED
        and waits[key] is None
        and _held_open(d, seen[key[0]])
        and not (d.adapter and d.adapter.network in apart)
    ]
    verdicts: dict[object, Verdict] = {}
    others: dict[tuple[str, str], ClosedDoor] = {}
    stopped: dict[str, str] = {}
    if asked:
        from dacha.engine.reach.closed_doors import closed_doors
        from dacha.engine.reach.doors import probe_doors
        from dacha.engine.reach.opening import GuestWatcher

        watcher = GuestWatcher(ws, {name for name, s in seen.items() if s.state == HUNG})
        verdicts = probe_doors(asked, times[0], lan, watcher, times[1])
        if os.geteuid() == 0:
            others = closed_doors(ws, asked, verdicts, lan)
        silent = {d.door.guest for d in asked if (v := verdicts.get(_key(d))) and not v.ok}
        stopped = {name: words for name in silent if (words := watcher.stopped(name))}
    changed_rules = any(isinstance(c, LoadRules) for c in pending)
    return _Seen(verdicts, waits, lan, changed_rules, others, stopped, _cuts(ws))


def _cuts(ws: Workspace) -> Callable[[DoorPlan], Cut | None]:
    """What disconnects a door from its LAN: for all doors of this host's own address, it is looked up once."""
    found: dict[tuple[str, str] | None, Cut | None] = {}

    def cut(door: DoorPlan) -> Cut | None:
        from dacha.engine.network.uplink import cut_off

        key = _key(door) if door.means == "own" else None
        if key not in found:
            found[key] = cut_off(ws.lab, door)
        return found[key]

    return cut


def _key(door: DoorPlan) -> tuple[str, str]:
    return door.door.guest, door.door.name


def state_text(seen: ObservedGuest) -> str:
    """A guest's state in words: "on, 12 min"."""
    if seen.state in (OFF, SAVED):
        return seen.state
    if seen.installing and seen.state not in (HUNG, PAUSED):
        return f"installing, {show_duration(max(0.0, time.time() - seen.installing))}"
    word = {HUNG: "does not respond"}.get(seen.state, seen.state)
    if seen.fault:
        word = f"suspended, {FAULTS[seen.fault]}"
    word = f"{word}, {show_duration(max(0.0, time.time() - seen.since))}" if seen.since else word
    if seen.gate_lost:
        word = f"{word}, no outgoing connections: its gate process has exited"
    return f"{word}, its TPM lost" if seen.tpm_lost else word


def _held_open(door: DoorPlan, seen: ObservedGuest) -> bool:
    """True unless the guest's own process is known not to hold the door open."""
    return door.backend == "kernel" or seen.forwards is None or all(f in seen.forwards for f in door.forwards())


def _ask_router(ws: Workspace, plan: Plan, seen: Mapping[str, ObservedGuest]) -> RouterLook | None:
    """Start querying the router about its forwarded doors of running guests."""
    doors = [d for d in plan.doors.values() if d.door.origin == "outside" and seen[d.door.guest].running]
    if not doors or ws.lab.by_hand:
        return None
    from dacha.engine.reach.outside import RouterLook

    return RouterLook(ws, doors)


def _door_row(
    ws: Workspace,
    door: DoorPlan,
    seen: ObservedGuest,
    looked: _Seen,
    router: Mapping[tuple[str, str], RouterSeen],
) -> DoorRow:
    ok, now = _answer(door, seen, looked)
    inside_only = False
    place = lan_place(door, looked.lan)
    reached_from = "LAN" if place else "host"
    place = place or door.enter_at(LOOPBACK)
    at = _endpoint(door, place) if place else None
    if door.door.origin == "outside" and door.means != "none":
        from dacha.engine.reach.outside import known, led_in

        outside_ok, outside_now, led = led_in(door, known(ws), router.get(_key(door)), by_hand=ws.lab.by_hand)
        reached_from, at = ("outside", led) if led else (reached_from, at)
        if ok:
            ok, now, inside_only = outside_ok, outside_now, outside_ok is False
    elif ok and door.door.from_lan and reached_from == "LAN" and (cut := looked.cut(door)):
        ok, now, inside_only = False, f"not from the LAN: {cut.what}", True
    heard = looked.verdicts.get(_key(door))
    excused = ok is False and not door.door.always and heard is not None and not heard.ok and _held_open(door, seen)
    return DoorRow(door, reached_from, at, ok, f"{now}; not always on" if excused else now, excused, inside_only)


def _endpoint(door: DoorPlan, place: tuple[object, int]) -> Endpoint:
    return Endpoint(str(place[0]), door.port.first if door.port and door.means == "forward" else place[1])


def _answer(door: DoorPlan, seen: ObservedGuest, looked: _Seen) -> tuple[bool | None, str]:
    """Whether a door responds (None: not probed, or unknown), and what that means."""
    key = _key(door)
    verdict, waits = looked.verdicts.get(key), looked.waits[key]
    if seen.state in (OFF, SAVED):
        return None, "guest is off"
    if seen.fault:
        return False, f"guest is suspended: dacha trace {' '.join(key)}"
    if seen.state == PAUSED:
        return None, "guest is paused"
    if waits:
        what = waits.what if waits.short else "not open yet" if waits.until == APPLY else "from its next start"
        return False, f"{what}: {waits.remedy(key[0])}"
    if not _held_open(door, seen):
        return False, "closed by hand: dacha apply"
    if verdict is None:
        return None, "not probed (UDP)" if door.door.protocol == "udp" else "cannot be probed from here"
    if not verdict.ok and seen.installing:
        return None, "not yet: it is installing"
    if (other := looked.others.get(key)) and other.unsure:
        return None, other.words
    if other:
        return False, f"{other.words}: dacha trace {' '.join(key)}"
    if not verdict.ok and key[0] in looked.stopped:
        return False, f"{looked.stopped[key[0]]}: dacha trace {' '.join(key)}"
    if not verdict.ok:
        young = seen.since is not None and time.time() - seen.since < BOOTING_S
        changed = door.backend == "kernel" and looked.changed_rules
        if seen.state == HUNG and verdict.heard == Heard.NOTHING:
            return False, "no answer: the guest's QEMU does not respond"
        return False, "the lab's rules were changed: dacha apply" if changed else _trouble(verdict, young)
    if door.door.from_lan and lan_place(door, looked.lan) is None:
        return None, "answers here; this host has no address on a LAN"
    return True, f"open, slow: {show_duration(verdict.after_s)}" if verdict.after_s > SLOW_S else "open"


def _trouble(verdict: Verdict, young: bool) -> str:
    if verdict.heard == Heard.REFUSED:
        return "refused: " + ("it may be booting" if young else "no server runs, or a firewall rejects it")
    if verdict.heard == Heard.CLOSED:
        why = "it may be booting" if young else "no server runs, or it turns clients away"
        return f"closes each connection: {why}"
    if verdict.heard == Heard.NOTHING:
        return "no answer" + (" yet: it may be booting" if young else "")
    return verdict.seen
