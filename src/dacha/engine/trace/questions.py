"""The questions about a path that this host asks: those that need no earlier answer, and those that depend on the first
ones."""

from __future__ import annotations

import os
import time
from collections.abc import Callable
from functools import partial
from ipaddress import IPv4Address
from typing import Any, Literal

from dacha.core.heard import Heard
from dacha.core.network.rules import TABLE_FAMILIES, table_name
from dacha.core.plan.doors import DoorPlan
from dacha.core.trace.seen.evidence import Evidence
from dacha.core.trace.seen.results import REFUSED, SILENT, UNREACHABLE
from dacha.engine.console import recent
from dacha.engine.disks.room import room
from dacha.engine.network import confined, others
from dacha.engine.network.forwarding import unforwarded
from dacha.engine.network.live import networks_apart
from dacha.engine.network.uplink import cut_off
from dacha.engine.router.look import look
from dacha.engine.trace.asking import Asked, Asking
from dacha.engine.trace.guest import arrived, key, run_state
from dacha.engine.trace.host import answers, learnt, links_of, pinned, rule
from dacha.engine.trace.login import has_key, try_login
from dacha.engine.trace.password import try_password
from dacha.engine.trace.patience import MOST_S
from dacha.engine.workspace import Workspace
from dacha.host.facts import program
from dacha.host.network import addresses, iproute, nft
from dacha.host.network.traffic_control import foreign
from dacha.host.probe.certificates import certificate
from dacha.host.probe.connect import open_ports, speaking, touch
from dacha.host.probe.connections import led_to
from dacha.host.probe.dns import addresses_of
from dacha.host.probe.echo import comes_back
from dacha.hypervisor.monitor import agent
from dacha.wire.probes import probe_for

# The limit of one question: all run in parallel, so that a trace takes little longer than its slowest.
ASK_S, ECHO_S, NAME_S = 2.0, 0.6, 1.0
# Limits for QEMU's answer whether an agent runs, and for an agent if that is unknown (seconds).
UNSURE_S = 0.5
# The questions that listen to the service.
WORDS: tuple[Literal["through", "direct"], ...] = ("through", "direct")
# Smaller packets to try if large ones are lost: a tunnel's, IPv6's minimum, IPv4's minimum (RFC 8200, RFC 791).
SIZES = (1400, 1280, 576)
# Other ports where a service may be if its own is closed: low ports, and common alternatives.
OTHER_PORTS = (*range(20, 26), 80, 443, 2022, 2200, 2222, 3388, 3390, 5901, 8000, 8080, 8081, 8443, 8888, 10022, 22022)


def address_of_guest(door: DoorPlan) -> str | None:
    """The guest's own address, as known now."""
    return str(door.adapter.address) if door.adapter and door.adapter.address else None


def agent_addresses(ws: Workspace, guest: str) -> list[tuple[str, str]] | None:
    """The addresses that the guest's agent reports, however long a running one takes; None at once if none runs."""
    run = ws.home.run(guest)
    runs = agent.runs(run, UNSURE_S)
    return None if runs is False else agent.addresses(run, MOST_S if runs else UNSURE_S)


def first_questions(
    ws: Workspace, door: DoorPlan, e: Evidence, place: tuple[str, int] | None, hear_s: float, asking: Asking
) -> dict[str, Callable[[], Any]]:
    """Questions that need no earlier answer. (Small functions of fixed values: each runs in a thread of its own.) A
    service that accepts connections is listened to for `hear_s` seconds."""

    def heard() -> bool:
        touched = asking.told().get("through")
        return touched is not None and touched.heard != Heard.NOTHING

    guest, address, service = e.guest, address_of_guest(door), door.door.service
    root, own = os.geteuid() == 0, e.way != "user"
    apart = e.network in networks_apart(ws)
    asks: dict[str, Callable[[], Any]] = {
        "console": lambda: recent(ws.home, guest),
        "agent": lambda: agent_addresses(ws, guest),
        "status": lambda: run_state(ws, guest),
        "room": lambda: room(ws.home, guest),
        "lan": addresses.lan_address,
    }
    if e.origin != "host":
        asks["cut"] = lambda: cut_off(ws.lab, door)
    if door.door.protocol == "tcp" and not apart:
        if place:
            asks["through"] = lambda: touch(*place, probe_for(service), ASK_S, hear_s=hear_s)
        if place and not own:
            asks["arrived"] = lambda: arrived(ws, door, heard)
        if own and address:
            asks["direct"] = lambda: touch(address, e.port, probe_for(service), ASK_S, hear_s=hear_s)
    if own and root:
        asks["links"] = iproute.links
        asks["shaped"] = lambda: foreign([x for x in links_of(ws, door) if x])
        asks["confinement"] = lambda: confined.look(ws)
        if address:
            asks["answers"] = lambda: answers(ws, e.network, IPv4Address(address))
            asks["route"] = lambda: iproute.own_way(address, with_source=True)
            asks["pinned"] = lambda: pinned(ws, e.network, address)
            if e.way == "kernel" and e.origin != "host":
                asks["forwarded"] = lambda: unforwarded(ws.lab.name, e.network, address, e.sources.asker)
    if e.way == "kernel" and root:
        asks["rules"] = lambda: rule(ws, door)
        asks["changed"] = lambda: nft.digest(table_name(ws.lab.name), TABLE_FAMILIES)
    if root:
        asks["listing"] = others.listing
    if e.names.server:
        asks["named"] = lambda: addresses_of(e.names.name, e.names.server, NAME_S)
    if e.origin == "outside":
        asks["router"] = lambda: look(ws, door, hairpin=True)
    return asks


def second_questions(
    ws: Workspace,
    door: DoorPlan,
    e: Evidence,
    place: tuple[str, int] | None,
    lan: str | None,
    asked: Asked,
    until: Callable[[], float],
) -> dict[str, Callable[[], Any]]:
    """Questions that depend on the first answers: more about a service that responds, a login, and other ports of one
    that refuses. A login is waited for `until` a moment of the monotonic clock."""
    address, service, root = address_of_guest(door), door.door.service or "", os.geteuid() == 0
    direct = e.tried.direct
    asks: dict[str, Callable[[], Any]] = {}
    if root and address and direct and direct.ok and direct.largest:
        sizes = [direct.largest, *(n for n in SIZES if n < direct.largest)]
        asks["sizes"] = lambda: comes_back(address, sizes, ECHO_S)
    if root and e.way == "kernel" and e.tried.through and e.tried.through.source_port and place and ":" not in place[0]:
        ours, theirs = e.tried.through.source_port, place[1]
        asks["led"] = lambda: led_to(door.door.protocol, ours, theirs)
    if root and address and direct and direct.how in (SILENT, UNREACHABLE) and e.net.answered:
        asks["learnt"] = lambda: learnt(ws, e.network, address)
    if address and direct and direct.how == REFUSED:
        asks["elsewhere"] = lambda: speaking(address, service, open_ports(address, OTHER_PORTS, 1.0), 2.0)
    if address and direct and direct.ok and e.way == "kernel" and lan:
        asks["reply"] = lambda: touch(address, e.port, probe_for(service), 1.5, lan)
    target = place if e.way == "user" else (address, e.port) if address else None
    heard = e.tried.through if e.way == "user" else e.tried.direct
    if target and heard and heard.ok:
        guest, left = ws.lab.guests[e.guest], until() - time.monotonic()
        logs_in = service == "ssh" and asked.login and guest.login and program("ssh")
        if logs_in:
            asks["login"] = partial(try_login, ws, guest, target, left, asked.user)
        # A login also shows the host key: a slow guest computes it only once.
        if service == "ssh" and not (logs_in and has_key(ws, guest)):
            asks["key"] = lambda: key(ws, e.guest, *target)
        if service == "rdp" and asked.user and asked.password is not None:
            asks["login"] = partial(try_password, ws, guest, target, asked.user, asked.password, left)
        if service in ("https", "rdp"):
            asks["certificate"] = lambda: certificate(*target, ASK_S, rdp=service == "rdp")
    return asks
