"""Gathering what was seen of the way to one service: everything at once, each question with its time limit."""

from __future__ import annotations

import os
import re
import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from ipaddress import IPv4Address, ip_address
from typing import Any, NamedTuple

from dacha.core.door_plan import ANYWHERE, DoorPlan, here
from dacha.core.door_plan import place as written
from dacha.core.errors import DachaError
from dacha.core.evidence import Carried, Evidence
from dacha.core.findings import errors
from dacha.core.firewall import Packet, dropped_by
from dacha.core.identity import link_name
from dacha.core.kernel_plan import lan_link
from dacha.core.observed import OFF, ObservedGuest
from dacha.core.ruleset import FAMILIES, table_name
from dacha.engine import caretaking, sightings, tracing_router
from dacha.engine.machines import host_key_public
from dacha.engine.observe import CONSOLE_START, observe_guest
from dacha.engine.status import live_plan, networks_apart
from dacha.engine.workspace import Workspace
from dacha.host import duplicates, iproute, links, nft, ports, sysctls
from dacha.host.touching import host_key, open_ports, speaking, touch
from dacha.hypervisor import agent
from dacha.wire.probes import probe_for

# One question's limit. All are asked at once, so that a trace takes little longer than its slowest.
ASK_S, ARP_S, AGENT_S = 2.0, 0.5, 0.5
# Where a service may be instead, when its own port is shut: low ports, and usual other ones.
OTHER_PORTS = (*range(20, 26), 80, 443, 2022, 2200, 2222, 3388, 3390, 5901, 8000, 8080, 8081, 8443, 8888, 10022, 22022)
_PANIC = re.compile(rb"Kernel panic[^\r\n]*")
# A login prompt, or a shell's at the beginning of a line, whatever was typed behind it.
_PROMPT = re.compile(rb"(?m)login: ?\r?$|^[\w@~:./-]{0,40} ?[#$] ")
_ESCAPES = re.compile(rb"\x1b\[[0-9;?]*[A-Za-z]")


class Asked(NamedTuple):
    """What is to be traced: the planned door, from where, and (for a limited one) for whom."""

    plan: DoorPlan
    origin: str
    asker: str | None


def gather(ws: Workspace, asked: Asked) -> Evidence:
    """Everything about one door's way. Raises HostError where this host cannot be looked at at all."""
    door = live_plan(ws).doors[asked.plan.door.guest, asked.plan.door.name]
    guest = ws.lab.guests[door.door.guest]
    way = "own" if door.means == "own" else "kernel" if door.carrier == "kernel" else "user"
    seen = observe_guest(ws.home, guest.name)
    place = _place(door, asked.origin)
    found = Evidence(
        guest=guest.name,
        door=door.door.name,
        service=door.door.service or "tcp",
        system=guest.system,
        port=door.door.to.first,
        way=way,
        origin=asked.origin,
        place=written(*place) if place else "nowhere",
        network=door.adapter.network if door.adapter else "",
        lab_error=_lab_error(ws),
        not_applied=_not_applied(ws, guest.name),
        state=seen.state,
        since_s=max(0.0, time.time() - seen.since) if seen.since else None,
        left_off=seen.left_off,
        allowed=tuple(str(n) for n in door.door.allow),
        asker=asked.asker,
        admitted=_admitted(door, asked.asker),
        untold="" if os.geteuid() == 0 or way == "user" else "it takes root to look at",
    )
    if seen.state == OFF:
        return found
    return _ask_everything(ws, door, found, place, seen)


def _ask_everything(
    ws: Workspace, door: DoorPlan, e: Evidence, place: tuple[str, int] | None, seen: ObservedGuest
) -> Evidence:
    guest, adapter = door.door.guest, door.adapter
    address = str(adapter.address) if adapter and adapter.address else None
    service = door.door.service or ""
    apart = bool(adapter and adapter.network in networks_apart(ws))
    root = os.geteuid() == 0
    tcp = door.door.protocol == "tcp"
    questions: dict[str, Callable[[], Any]] = {
        "console": lambda: _console(ws, guest),
        "agent": lambda: agent.addresses(ws.home.run(guest), AGENT_S),
        "status": lambda: _run_state(ws, guest),
        "lan": links.lan_address,
    }
    if place and tcp and not apart:
        questions["through"] = lambda: touch(place[0], place[1], probe_for(service), ASK_S)
    if e.way != "user" and address and tcp and not apart:
        questions["direct"] = lambda: touch(address, e.port, probe_for(service), ASK_S)
    if e.way != "user" and root:
        questions["links"] = iproute.links
        if address:
            questions["answers"] = lambda: _answers(ws, e.network, IPv4Address(address))
            questions["route"] = lambda: iproute.way_to(address)
    if e.way == "kernel" and root:
        questions["rules"] = lambda: _rule(ws, door)
        questions["changed"] = lambda: nft.digest(table_name(ws.lab.name), FAMILIES)
    if root:
        questions["listing"] = nft.listing
    if e.origin == "outside":
        questions["router"] = lambda: tracing_router.look(ws, door)
    told = _all(questions)
    e = _with_guest(e, told)
    e = _with_links(ws, door, e, told)
    if e.way == "user":
        forward = None if seen.forwards is None else all(f in seen.forwards for f in door.forwards())
        held = None
        if forward is False and door.port:
            held = ports.holder(door.door.protocol, door.port.first)
        e = e._replace(forward=forward, held_by=held)
    more: dict[str, Callable[[], Any]] = {}
    target = (address, e.port) if e.way != "user" else place
    heard = e.through if e.way == "user" else e.direct
    if service == "ssh" and target and target[0] and heard and heard.ok:
        where, port = str(target[0]), target[1]
        more["key"] = lambda: _key(ws, guest, where, port)
    if address and e.direct and e.direct.how == "refused":
        more["elsewhere"] = lambda: speaking(address, service, open_ports(address, OTHER_PORTS, 0.6), 0.8)
    if e.way == "kernel" and address and e.direct and e.direct.ok and told["lan"]:
        more["reply"] = lambda: touch(address, e.port, probe_for(service), 1.5, str(told["lan"]))
    said = _all(more)
    lan = told.get("lan")
    return e._replace(
        key=said.get("key"),
        elsewhere=said.get("elsewhere") or (),
        reply=said.get("reply"),
        lan_address=str(lan) if lan else None,
        router=told.get("router"),
        dropped=_dropped(ws, door, e, told.get("listing"), str(lan) if lan else None),
    )


def _place(door: DoorPlan, origin: str) -> tuple[str, int] | None:
    """Where somebody there enters the door; this host asks at the same place."""
    lan = links.lan_address() if origin != "host" else None
    place = door.enter_at(lan) if lan else None
    return (str(place[0]), place[1]) if place else here(door)


def _all(questions: dict[str, Callable[[], Any]]) -> dict[str, Any]:
    """The answers to questions asked at once; None for one that failed."""

    def safely(question: Callable[[], Any]) -> Any:
        try:
            return question()
        except (DachaError, OSError):
            return None

    with ThreadPoolExecutor(max(1, len(questions))) as pool:
        return dict(zip(questions, pool.map(safely, questions.values()), strict=True))


def _lab_error(ws: Workspace) -> tuple[str, str] | None:
    wrong = errors(ws.findings())
    return (wrong[0].what, wrong[0].remedy) if wrong else None


def _not_applied(ws: Workspace, guest: str) -> str | None:
    """What of an edit of the file stands between it and what was applied."""
    from dacha.engine.pending import pending

    try:
        applied = ws.home.applied.read_text()
    except OSError:
        return "the lab was never applied"
    if applied == ws.text:
        return None
    mine = [c for c in pending(ws) if c.guest in (guest, None) and c.when == "live"]
    return str(mine[0]) if mine else None


def _admitted(door: DoorPlan, asker: str | None) -> bool | None:
    if asker is None or not door.door.allow:
        return None
    address = ip_address(asker)
    return any(address.version == n.version and address in n for n in door.door.allow)


def _console(ws: Workspace, guest: str) -> bytes:
    """The end of what this start has put on the serial console."""
    folder = ws.home.guest(guest)
    try:
        begin = int((folder / CONSOLE_START).read_text())
    except (OSError, ValueError):
        begin = 0
    with (folder / "console.log").open("rb") as f:
        f.seek(0, os.SEEK_END)
        f.seek(max(begin, f.tell() - 8192))
        return f.read()


def _run_state(ws: Workspace, guest: str) -> str:
    from dacha.hypervisor.command_line import WATCH
    from dacha.hypervisor.qmp import Qmp

    with Qmp(ws.home.run(guest) / WATCH, timeout_s=1.0) as qmp:
        return str(qmp.execute("query-status")["status"])


def _with_guest(e: Evidence, told: dict[str, Any]) -> Evidence:
    tail = _ESCAPES.sub(b"", told.get("console") or b"")
    panic = _PANIC.findall(tail)
    booted = None
    if told.get("agent") is not None:
        booted = "its guest agent answers"
    elif _PROMPT.search(tail):
        booted = "its console shows a prompt"
    return e._replace(
        panic=panic[-1].decode("ascii", "replace")[:80] if panic else None,
        booted=booted,
        status=told.get("status") or "",
        direct=told.get("direct"),
        through=told.get("through"),
    )


def _with_links(ws: Workspace, door: DoorPlan, e: Evidence, told: dict[str, Any]) -> Evidence:
    adapter = door.adapter
    if e.way == "user" or adapter is None:
        return e
    key = (adapter.guest, adapter.number)
    seen = sightings.read(ws.home).get(key)
    planned = ws.quick_plan.adapters[key].address
    network = ws.lab.networks[adapter.network]
    there = told.get("links")
    carried = None
    if there is not None:
        name = link_name(ws.lab.name, "guest", adapter.guest, str(adapter.number))
        bridge = link_name(ws.lab.name, "network", network.name) if network.served else lan_link(ws.lab, network)
        link, over = there.get(name), there.get(bridge or "")
        direct = link is not None and link.kind == "macvtap"
        carried = Carried(
            name=name,
            there=link is not None,
            up=bool(link and link.up),
            held=bool(link and (direct or link.carrier)),
            master=link.master if link else None,
            wanted=None if direct else bridge,
            bridge_there=over is not None,
            bridge_up=bool(over and over.up),
        )
    answered = told.get("answers")
    return e._replace(
        carried=carried,
        address=str(adapter.address) if adapter.address else None,
        handed_out=planned is None,
        caretaker=caretaking.running(ws.home) is not None if network.served else None,
        seen_address=str(seen.address) if seen and seen.address else None,
        seen_age_s=max(0.0, time.time() - seen.at) if seen else None,
        hardware=adapter.hardware_address,
        answered=answered[0] if answered else None,
        answered_ms=answered[1] if answered else 0.0,
        route=(told["route"] or "nowhere", carried.wanted) if carried and carried.wanted and "route" in told else None,
        rule=told.get("rules"),
        rules_changed=_changed(ws, told.get("changed")) if "changed" in told else False,
        forwarding=sysctls.read("net/ipv4/ip_forward") == "1" if e.way == "kernel" else None,
    )


def _changed(ws: Workspace, seen: str | None) -> bool:
    from dacha.engine import kernel, rules

    text = rules.text_of(ws, ws.quick_plan, kernel.wanted(ws, ws.quick_plan))
    return not rules.current(ws, text, seen)


def _answers(ws: Workspace, network: str, address: IPv4Address) -> tuple[tuple[str, ...], float] | None:
    net = ws.lab.networks[network]
    interface = link_name(ws.lab.name, "network", network) if net.served else lan_link(ws.lab, net)
    if interface is None or network in networks_apart(ws):
        return None
    return duplicates.answers(interface, address, ARP_S)


def _rule(ws: Workspace, door: DoorPlan) -> str:
    """Whether the kernel leads the door's port to its guest: "there", "missing", or where it leads instead."""
    table = table_name(ws.lab.name)
    for f in door.forwards():
        if f.listen == ANYWHERE:
            name, key = "doors", f"{f.protocol} . {f.port}"
        else:
            name = "doors6_there" if f.listen.version == 6 else "doors_there"
            key = f"{f.protocol} . {f.listen} . {f.port}"
        leads = nft.element(table, name, key)
        if leads is None:
            return "missing"
        if leads != f"{f.address} . {f.to}":
            return leads.replace(" . ", ", port ")
    return "there" if door.forwards() else "missing"


def _key(ws: Workspace, guest: str, address: str, port: int) -> bool | None:
    known = host_key_public(ws.home, guest).split()
    if len(known) < 2 or not ws.lab.guests[guest].first_boot:
        return None
    shown = host_key(address, port, 2)
    return None if shown is None else shown == " ".join(known[:2])


def _dropped(
    ws: Workspace, door: DoorPlan, e: Evidence, listing: dict[str, Any] | None, lan: str | None
) -> tuple[str, str] | None:
    """What else on this host drops a connection from where the door is entered."""
    if listing is None or door.adapter is None or door.port is None or (e.address is None and e.way != "user"):
        return None
    from_lan = e.origin != "host"
    if e.way == "kernel":
        bridge = link_name(ws.lab.name, "network", door.adapter.network)
        hook, out = ("forward", bridge) if from_lan else ("output", bridge)
        to, port = str(e.address), door.door.to.first
    else:
        hook, out, to, port = "input", None, lan or "", door.port.first
    arrives = links.lan_interface() if from_lan else "lo"
    packet = Packet(4, arrives, out, e.asker, to, door.door.protocol, port, e.way == "kernel")
    found = dropped_by(listing, hook, packet, "dacha_")
    return (str(found), found.shown_by()) if found else None
