"""Gathering what was seen of the way to one service: everything at once, each question with its time limit."""

from __future__ import annotations

import contextlib
import os
import time
from collections.abc import Callable
from ipaddress import IPv4Address, ip_address
from typing import Any

from dacha.core.apply.observed import OFF, ObservedGuest
from dacha.core.apply.waiting import APPLY, NEVER, START, Waiting, moves, waiting
from dacha.core.findings import errors
from dacha.core.lab.names import host_name
from dacha.core.network.rules import FAMILIES, table_name
from dacha.core.plan.doors import DoorPlan, endpoint, here
from dacha.core.trace.evidence import OPEN, REFUSED, ConnectResult, Evidence
from dacha.core.trace.service import wordless
from dacha.engine.disks.room import room
from dacha.engine.guest.console import recent
from dacha.engine.guest.observe import observe_guest
from dacha.engine.network import confined, others
from dacha.engine.network.live import live_plan, networks_apart
from dacha.engine.router.look import look
from dacha.engine.trace import there
from dacha.engine.trace.asking import Asked, Asking
from dacha.engine.trace.guest import arrived, key, last_run, run_state, with_guest
from dacha.engine.trace.host import answers, rule, with_links
from dacha.engine.trace.login import look_inside, with_inside
from dacha.engine.workspace import Workspace
from dacha.host.network import addresses, iproute, nft
from dacha.host.probe import ports
from dacha.host.probe.certificates import certificate
from dacha.host.probe.connect import open_ports, speaking, touch
from dacha.host.probe.connections import led_to
from dacha.host.probe.dns import addresses_of
from dacha.host.probe.echo import comes_back
from dacha.hypervisor.monitor import agent
from dacha.wire.probes import probe_for

# One question's limit. All are asked at once, so that a trace takes little longer than its slowest.
ASK_S, AGENT_S, ECHO_S, NAME_S = 2.0, 0.5, 0.6, 1.0
# How long a service that accepts is heard in the first round; it is heard on in the second.
HEAR_S = 2.2
# The questions that hear a service.
WORDS = ("through", "direct")
# All questions of one round together; there are two, so that nothing can make a trace take longer than 8 s.
ROUND_S, LONGEST_S = 3.8, 7.9
# Smaller packets that are tried where large ones vanish: a tunnel's, IPv6's least, IPv4's least (RFC 8200, RFC 791).
SIZES = (1400, 1280, 576)
# Where a service may be instead, when its own port is shut: low ports, and usual other ones.
OTHER_PORTS = (*range(20, 26), 80, 443, 2022, 2200, 2222, 3388, 3390, 5901, 8000, 8080, 8081, 8443, 8888, 10022, 22022)

# Hops that only one question tells of.
HOPS_OF = {
    "key": ("key",), "certificate": ("certificate",), "sizes": ("size",), "reply": ("reply",),
    "router": ("router", "outside-address"), "route": ("route",),
}  # fmt: skip


def gather(ws: Workspace, asked: Asked) -> Evidence:
    """Everything about one door's way. Raises HostError where this host cannot be looked at at all."""
    wish = asked.plan
    door = live_plan(ws).doors[wish.door.guest, wish.door.name]
    guest = ws.lab.guests[door.door.guest]
    way = "own" if door.means == "own" else "kernel" if door.backend == "kernel" else "user"
    seen = observe_guest(ws.home, guest.name)
    place = _place(door, asked.origin)
    not_applied = _not_applied(ws, wish, door)
    found = Evidence(
        guest=guest.name,
        door=door.door.name,
        service=door.door.service or "tcp",
        system=guest.system,
        port=door.door.to.first,
        way=way,
        origin=asked.origin,
        place=endpoint(*place) if place else "nowhere",
        on_loopback=door.listen.is_loopback,
        network=door.adapter.network if door.adapter else "",
        prefix=door.adapter.prefix if door.adapter else 0,
        gateway=_gateway(ws, door),
        lab_error=_lab_error(ws),
        not_applied=(not_applied.what, not_applied.remedy(guest.name)) if not_applied else None,
        moves=moves(wish, door),
        state=seen.state,
        since_s=max(0.0, time.time() - seen.since) if seen.since else None,
        stopped_on_purpose=seen.stopped_on_purpose,
        allowed=tuple(str(n) for n in door.door.allow),
        asker=asked.asker,
        admitted=_admitted(door, asked.asker),
        untold="" if os.geteuid() == 0 or way == "user" else "it takes root to look at",
    )
    if seen.state == OFF:
        run = last_run(ws, guest.name)
        return found._replace(lab_error=found.lab_error or _unfit(ws, found.network), last_run=run)
    if way == "kernel":
        server = ws.plan_without_host.networks[found.network].resolver
        found = found._replace(name=host_name(ws.lab.name, guest.name), name_server=str(server or ""))
    e = _ask_everything(ws, door, found, place, seen, asked.wait_s)
    target = place if way == "user" else (_address(door) or "", e.port) if _address(door) else None
    asking = there.begin(asked.at, e, asked.wait_s)
    e = with_inside(ws, guest, e, target, asked)
    return there.end(asking, asked.at, e, asked.wait_s)


def _ask_everything(
    ws: Workspace, door: DoorPlan, e: Evidence, place: tuple[str, int] | None, seen: ObservedGuest, wait_s: float
) -> Evidence:
    asking = Asking()
    asking.ask(_first_questions(ws, door, e, place, HEAR_S + ROUND_S + wait_s))
    asking.wait(ROUND_S, WORDS, HEAR_S)
    told = _so_far(asking)
    e = with_links(ws, door, with_guest(e, told), told)
    if e.way == "user":
        forward = None if seen.forwards is None else all(f in seen.forwards for f in door.forwards())
        held = ports.holder(door.door.protocol, door.port.first) if forward is False and door.port else None
        e = e._replace(forward=forward, held_by=held, arrived=told.get("arrived"))
    lan = str(told["lan"]) if told["lan"] else None
    asking.ask(_second_questions(ws, door, e, place, lan))
    # Who has a connection and says nothing may be slow, and is heard on. In user mode QEMU accepts before the guest
    # does: one that has not arrived there is not waited for.
    patient = wordless(e.through if e.way == "user" else e.direct) and e.arrived is not False and e.service != "tcp"
    if patient and ws.lab.guests[e.guest].system != "windows":
        # Its agent may tell what has the port; afterwards there would be no time for that.
        rest = LONGEST_S - asking.took_s
        asking.ask({"inside": lambda: look_inside(ws, ws.lab.guests[e.guest], e.service, rest)})
    asking.wait(ROUND_S + (wait_s if patient else 0.0), () if patient else WORDS)
    if patient:
        # What its console showed in the meantime is read again: a system may have given up since it accepted.
        told = _so_far(asking)
        with contextlib.suppress(OSError):
            told |= {"console": recent(ws.home, e.guest)}
        e = with_guest(e, told)
        if wordless(e.through) and e.direct and e.direct.ok:
            # Two connections at once are too many for some: what one of them heard, the other one would have.
            e = e._replace(through=e.direct)
        asking.ask(_second_questions(ws, door, e, place, lan))
        asking.wait(max(0.5, LONGEST_S - asking.took_s), WORDS)
    told, unanswered = asking.told(), asking.unanswered()
    listing, from_lan = told.get("listing"), e.origin != "host"
    return e._replace(
        key=told.get("key"),
        elsewhere=told.get("elsewhere") or (),
        reply=told.get("reply"),
        lan_address=lan,
        told_address=_told(ws),
        router=told.get("router"),
        sizes=told.get("sizes"),
        led=told.get("led"),
        certificate=told.get("certificate"),
        now=time.time(),
        took_s=asking.took_s,
        named=told.get("named"),
        inside=told.get("inside"),
        unanswered=tuple((hop, why) for question, why in unanswered.items() for hop in HOPS_OF.get(question, ())),
        taken=others.taken(door, listing, from_lan=from_lan, asker=e.asker, at=e.place.rpartition(":")[0]),
        dropped=others.dropped(ws.lab.name, door, listing, from_lan=from_lan, asker=e.asker, lan=lan),
    )


def _address(door: DoorPlan) -> str | None:
    """The guest's own address, as it is known now."""
    return str(door.adapter.address) if door.adapter and door.adapter.address else None


def _first_questions(
    ws: Workspace, door: DoorPlan, e: Evidence, place: tuple[str, int] | None, hear_s: float
) -> dict[str, Callable[[], Any]]:
    """What can be asked at once. (Small functions of fixed values: each runs in a thread of its own.) A service that
    accepts is heard for `hear_s` seconds."""
    guest, address, service = e.guest, _address(door), door.door.service
    root, own = os.geteuid() == 0, e.way != "user"
    apart = e.network in networks_apart(ws)
    asks: dict[str, Callable[[], Any]] = {
        "console": lambda: recent(ws.home, guest),
        "agent": lambda: agent.addresses(ws.home.run(guest), AGENT_S),
        "status": lambda: run_state(ws, guest),
        "room": lambda: room(ws.home, guest),
        "lan": addresses.lan_address,
    }
    if door.door.protocol == "tcp" and not apart:
        if place:
            asks["through"] = lambda: touch(*place, probe_for(service), ASK_S, hear_s=hear_s)
        if place and not own:
            asks["arrived"] = lambda: arrived(ws, door)
        if own and address:
            asks["direct"] = lambda: touch(address, e.port, probe_for(service), ASK_S, hear_s=hear_s)
    if own and root:
        asks["links"] = iproute.links
        asks["confinement"] = lambda: confined.look(ws)
        if address:
            asks["answers"] = lambda: answers(ws, e.network, IPv4Address(address))
            asks["route"] = lambda: iproute.way_to(address)
    if e.way == "kernel" and root:
        asks["rules"] = lambda: rule(ws, door)
        asks["changed"] = lambda: nft.digest(table_name(ws.lab.name), FAMILIES)
    if root:
        asks["listing"] = others.listing
    if e.name_server:
        asks["named"] = lambda: addresses_of(e.name, e.name_server, NAME_S)
    if e.origin == "outside":
        asks["router"] = lambda: look(ws, door, hairpin=True)
    return asks


def _second_questions(
    ws: Workspace, door: DoorPlan, e: Evidence, place: tuple[str, int] | None, lan: str | None
) -> dict[str, Callable[[], Any]]:
    """What depends on the first answers: more about a service that answers, and where one may be that refuses."""
    address, service, root = _address(door), door.door.service or "", os.geteuid() == 0
    direct = e.direct
    asks: dict[str, Callable[[], Any]] = {}
    if root and address and direct and direct.ok and direct.largest:
        sizes = [direct.largest, *(n for n in SIZES if n < direct.largest)]
        asks["sizes"] = lambda: comes_back(address, sizes, ECHO_S)
    if root and e.way == "kernel" and e.through and e.through.source_port and place and ":" not in place[0]:
        ours, theirs = e.through.source_port, place[1]
        asks["led"] = lambda: led_to(door.door.protocol, ours, theirs)
    if address and direct and direct.how == REFUSED:
        asks["elsewhere"] = lambda: speaking(address, service, open_ports(address, OTHER_PORTS, 1.0), 2.0)
    if address and direct and direct.ok and e.way == "kernel" and lan:
        asks["reply"] = lambda: touch(address, e.port, probe_for(service), 1.5, lan)
    target = place if e.way == "user" else (address, e.port) if address else None
    heard = e.through if e.way == "user" else e.direct
    if target and heard and heard.ok:
        if service == "ssh":
            asks["key"] = lambda: key(ws, e.guest, *target)
        if service in ("https", "rdp"):
            asks["certificate"] = lambda: certificate(*target, ASK_S, rdp=service == "rdp")
    return asks


def _place(door: DoorPlan, origin: str) -> tuple[str, int] | None:
    """Where somebody there enters the door; this host asks at the same place."""
    lan = addresses.lan_address() if origin != "host" else None
    place = door.enter_at(lan) if lan else None
    return (str(place[0]), place[1]) if place else here(door)


def _so_far(asking: Asking) -> dict[str, Any]:
    """The answers so far. A connection that is still heard was accepted, and nothing was said on it."""
    mute = ConnectResult(OPEN, False, "no answer", after_s=asking.took_s)
    return asking.told() | {name: mute for name in WORDS if asking.waiting(name)}


def _told(ws: Workspace) -> str | None:
    with contextlib.suppress(OSError):
        return ws.home.announced_address.read_text().strip()
    return None


def _gateway(ws: Workspace, door: DoorPlan) -> str:
    """The gateway of the door's network, where its guests have one: a network without a way out has none."""
    network = door.adapter.network if door.adapter else ""
    if not network or ws.lab.networks[network].kind != "nat":
        return ""
    return str(ws.plan_without_host.networks[network].gateway or "")


def _lab_error(ws: Workspace) -> tuple[str, str] | None:
    wrong = errors(ws.findings())
    return (wrong[0].what, wrong[0].remedy) if wrong else None


def _unfit(ws: Workspace, network: str) -> tuple[str, str] | None:
    """Why this host cannot carry a guest's network: an interface that is gone, or wireless."""
    from dacha.engine.check.links import bridge_findings

    wrong = [f for f in errors(bridge_findings(ws)) if f.path[1:2] == (network,)]
    return (f"network {network}: {wrong[0].what}", wrong[0].remedy) if wrong else None


def _not_applied(ws: Workspace, wish: DoorPlan, now: DoorPlan) -> Waiting | None:
    """What of the file the door still waits for. What was taken away since the file was applied is another matter, and
    a later hop's."""
    from dacha.engine.apply.pending import pending_changes

    if not ws.home.applied.is_file():
        return Waiting(APPLY, NEVER)
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
