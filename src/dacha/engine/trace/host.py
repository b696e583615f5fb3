"""Evidence about this host's part of a path: its links, its rules, and those of other programs."""

from __future__ import annotations

import time
from ipaddress import IPv4Address
from pathlib import Path

from dacha.core.lab.names import link_name
from dacha.core.network.door_rules import door_element
from dacha.core.network.links import lan_link
from dacha.core.network.rules import table_name
from dacha.core.plan.doors import DoorPlan
from dacha.core.trace.seen.evidence import Evidence
from dacha.core.trace.seen.results import Carried, RouteSeen
from dacha.engine.caretaker import process as caretaking
from dacha.engine.network import live
from dacha.engine.network.live import networks_apart
from dacha.engine.trace.asking import Told
from dacha.engine.workspace import Workspace
from dacha.host.network import arp, iproute, nft, sysctls
from dacha.host.network.iproute import OwnWay, SeenLink

# How long a guest may take to answer ARP, and a slow one if no machine has answered (seconds).
ARP_S, PATIENT_S = 0.5, 4.0


def with_links(ws: Workspace, door: DoorPlan, e: Evidence, told: Told) -> Evidence:
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
            hardware=over.hardware_address if over else "",
            bridge_arp=over.arp if over else True,
            lost=_lost(ws, network.name, over) if network.managed and over else "",
        )
    answered = told.get("answers")
    adapter_seen = e.link._replace(
        carried=carried,
        hardware=adapter.hardware_address,
        model=adapter.model,
        frames=_frames(link_name(ws.lab.name, "guest", adapter.guest, str(adapter.number))),
        route=_route(told.get("route"), carried),
        pinned=told.get("pinned") or "",
        learnt=told.get("learnt"),
        shaped=tuple(told.get("shaped") or ()),
    )
    net = e.net._replace(
        handed_out=planned is None,
        caretaker=caretaking.running(ws.home) is not None if network.managed else None,
        seen_address=str(seen.address) if seen and seen.address else None,
        seen_age_s=max(0.0, time.time() - seen.at) if seen else None,
        answered=answered[0] if answered else None,
        answered_ms=answered[1] if answered else 0.0,
    )
    host = e.host._replace(
        rule=told.get("rules"),
        confinement=told.get("confinement"),
        rules_changed=changed(ws, told.get("changed")) if "changed" in told else False,
        forwarding=sysctls.read("net/ipv4/ip_forward") == "1" if e.way == "kernel" else None,
        unforwarded=told.get("forwarded"),
    )
    return e._replace(link=adapter_seen, net=net, host=host)


def _route(own: OwnWay | None, carried: Carried | None) -> RouteSeen | None:
    if own is None or carried is None or not carried.wanted:
        return None
    return RouteSeen(own.link or "nowhere", carried.wanted, own.source, own.refused)


def _lost(ws: Workspace, network: str, bridge: SeenLink) -> str:
    """The address of this host on a network that its bridge does not have; "" if it has it."""
    home = ws.plan_without_host.networks[network].gateway
    return str(home) if home and str(home) not in {a.partition("/")[0] for a in bridge.addresses} else ""


def _frames(link: str) -> int | None:
    """How many frames a guest has sent; None without a link. The guest's frames count as received on a tap, as sent on
    a macvtap."""
    folder = Path(f"/sys/class/net/{link}")
    way = "tx" if (folder / "macvtap").is_dir() else "rx"
    try:
        return int((folder / f"statistics/{way}_packets").read_text())
    except (OSError, ValueError):
        return None


def changed(ws: Workspace, seen: str | None) -> bool:
    from dacha.engine.network import rules
    from dacha.engine.network.links import wanted_links

    text = rules.text_of(ws, ws.plan_without_host, wanted_links(ws, ws.plan_without_host))
    return not rules.current(ws, text, seen)


def answers(ws: Workspace, network: str, address: IPv4Address) -> tuple[tuple[str, ...], float] | None:
    interface = _bridge(ws, network)
    if interface is None or network in networks_apart(ws):
        return None
    return arp.answers(interface, address, ARP_S, PATIENT_S)


def learnt(ws: Workspace, network: str, address: str) -> bool | None:
    """Whether this host's kernel has learnt the guest's hardware address, after it sent packets to it."""
    interface = _bridge(ws, network)
    return iproute.has_neighbour(address, interface) if interface else None


def pinned(ws: Workspace, network: str, address: str) -> str:
    """The hardware address that this host was told by hand to use for a guest; "" if it finds it by itself."""
    interface = _bridge(ws, network)
    return iproute.pinned(address, interface) if interface else ""


def links_of(ws: Workspace, door: DoorPlan) -> tuple[str, ...]:
    """The guest's own link, and the bridge of a network of this host."""
    if door.adapter is None:
        return ()
    own = link_name(ws.lab.name, "guest", door.adapter.guest, str(door.adapter.number))
    managed = ws.lab.networks[door.adapter.network].managed
    return (own, link_name(ws.lab.name, "network", door.adapter.network)) if managed else (own,)


def _bridge(ws: Workspace, network: str) -> str | None:
    """The link of this host on a network."""
    net = ws.lab.networks[network]
    return link_name(ws.lab.name, "network", network) if net.managed else lan_link(ws.lab, net)


def rule(ws: Workspace, door: DoorPlan) -> str:
    """Whether the kernel forwards the door's port to its guest: "there", "missing", or another target."""
    table = table_name(ws.lab.name)
    for f in door.forwards():
        name, key = door_element(door, f)
        leads = nft.element(table, name, key)
        if leads is None:
            return "missing"
        if leads != f"{f.address} . {f.to}":
            return leads.replace(" . ", ", port ")
    return "there" if door.forwards() else "missing"
