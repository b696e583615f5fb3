"""What is seen of this host's part in a way: its links, its rules, and those of others."""

from __future__ import annotations

import time
from ipaddress import IPv4Address
from typing import Any

from dacha.core.lab.names import link_name
from dacha.core.network.door_rules import door_element
from dacha.core.network.firewall import Packet, dropped_by, led_by
from dacha.core.network.links import lan_link
from dacha.core.network.rules import table_name
from dacha.core.plan.doors import DoorPlan
from dacha.core.trace.evidence import Carried, Evidence
from dacha.engine.caretaker import process as caretaking
from dacha.engine.network import live
from dacha.engine.network.live import networks_apart
from dacha.engine.workspace import Workspace
from dacha.host.network import addresses, arp, nft, sysctls

# How long a guest has to answer ARP, and the priority of the lab's own NAT: what is before it has a connection first.
ARP_S, OURS = 0.5, -100


def with_links(ws: Workspace, door: DoorPlan, e: Evidence, told: dict[str, Any]) -> Evidence:
    adapter = door.adapter
    if e.way == "user" or adapter is None:
        return e
    key = (adapter.guest, adapter.number)
    seen = live.read(ws.home).get(key)
    planned = ws.plan_without_host.adapters[key].address
    network = ws.lab.networks[adapter.network]
    there = told.get("links")
    carried = None
    if there is not None:
        name = link_name(ws.lab.name, "guest", adapter.guest, str(adapter.number))
        bridge = link_name(ws.lab.name, "network", network.name) if network.managed else lan_link(ws.lab, network)
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
        caretaker=caretaking.running(ws.home) is not None if network.managed else None,
        seen_address=str(seen.address) if seen and seen.address else None,
        seen_age_s=max(0.0, time.time() - seen.at) if seen else None,
        hardware=adapter.hardware_address,
        answered=answered[0] if answered else None,
        answered_ms=answered[1] if answered else 0.0,
        route=(told["route"] or "nowhere", carried.wanted) if carried and carried.wanted and "route" in told else None,
        rule=told.get("rules"),
        rules_changed=changed(ws, told.get("changed")) if "changed" in told else False,
        forwarding=sysctls.read("net/ipv4/ip_forward") == "1" if e.way == "kernel" else None,
    )


def changed(ws: Workspace, seen: str | None) -> bool:
    from dacha.engine.network import rules
    from dacha.engine.network.links import wanted_links

    text = rules.text_of(ws, ws.plan_without_host, wanted_links(ws, ws.plan_without_host))
    return not rules.current(ws, text, seen)


def answers(ws: Workspace, network: str, address: IPv4Address) -> tuple[tuple[str, ...], float] | None:
    net = ws.lab.networks[network]
    interface = link_name(ws.lab.name, "network", network) if net.managed else lan_link(ws.lab, net)
    if interface is None or network in networks_apart(ws):
        return None
    return arp.answers(interface, address, ARP_S)


def rule(ws: Workspace, door: DoorPlan) -> str:
    """Whether the kernel leads the door's port to its guest: "there", "missing", or where it leads instead."""
    table = table_name(ws.lab.name)
    for f in door.forwards():
        name, key = door_element(door, f)
        leads = nft.element(table, name, key)
        if leads is None:
            return "missing"
        if leads != f"{f.address} . {f.to}":
            return leads.replace(" . ", ", port ")
    return "there" if door.forwards() else "missing"


def dropped(
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
    arrives = addresses.lan_interface() if from_lan else "lo"
    packet = Packet(4, arrives, out, e.asker, to, door.door.protocol, port, e.way == "kernel")
    found = dropped_by(listing, hook, packet, "dacha_")
    return (str(found), found.shown_by()) if found else None


def taken(door: DoorPlan, e: Evidence, listing: dict[str, Any] | None) -> tuple[str, str] | None:
    """Which rule of another program leads a connection elsewhere before the door has it."""
    if listing is None or door.port is None or not e.place[:1].isdigit():
        return None
    hook, arrives, leaves = (
        ("output", None, "lo") if e.origin == "host" else ("prerouting", addresses.lan_interface(), None)
    )
    to = e.place.rpartition(":")[0]
    packet = Packet(4, arrives, leaves, e.asker, to, door.door.protocol, door.port.first)
    found = led_by(listing, hook, packet, "dacha_", OURS)
    return (str(found), found.shown_by()) if found else None
