"""Evidence about why a guest does not reach something: queried inside it, and compared with this host."""

from __future__ import annotations

import contextlib
import os
import socket
import time
from ipaddress import IPv4Address, IPv6Address, ip_address, ip_network

from dacha.core.apply import gate_rules
from dacha.core.apply.observed import OFF, PAUSED, SAVED
from dacha.core.errors import DachaError
from dacha.core.lab.model import Guest
from dacha.core.lab.names import host_name, link_name
from dacha.core.network.rules import PRIVATE
from dacha.core.trace.seen.outward import GOT_IN, Near, Outward, read_way
from dacha.core.trace.seen.outward_questions import target_script, way_script
from dacha.core.trace.seen.questions import LINKS, RULES
from dacha.core.trace.seen.results import REJECTED, SILENT, UNREACHABLE, ConnectResult, Dropped, Unforwarded
from dacha.engine.guest.observe import observe_guest
from dacha.engine.network import confined, others
from dacha.engine.network.forwarding import unforwarded_outward
from dacha.engine.network.live import live_plan
from dacha.engine.trace.host import ARP_S, PATIENT_S
from dacha.engine.trace.inside import Inquiry
from dacha.engine.trace.patience import patience_s
from dacha.engine.workspace import Workspace
from dacha.host.network import arp, iproute, sysctls
from dacha.host.network.link.uplink import disconnected, is_uplink
from dacha.host.probe.connect import touch
from dacha.hypervisor import gate
from dacha.wire.probes import probe_for

# The limit for this host's own connection (seconds).
HOST_S = 3.0
# The minimum time for the guest's own connection.
LEAST_S = 8.0


def look(ws: Workspace, guest: Guest, target: str, port: int, wait_s: float | None) -> Outward:
    """The evidence about the path from a guest to a TCP port of an address or a name."""
    plan, seen = live_plan(ws), observe_guest(ws.home, guest.name, forwards=False)
    adapter = next(iter(plan.adapters_of(guest.name)), None)
    network = ws.lab.networks[adapter.network] if adapter else None
    # A guest of the lab, by its short name: the lab's name server knows the long one.
    o = Outward(guest.name, host_name(ws.lab.name, target) if target in ws.lab.guests else target, port)
    if seen.state in (OFF, SAVED, PAUSED):
        return o._replace(state=seen.state)
    if adapter is None or network is None:
        return o._replace(mute="the guest has no network adapter")
    net = ws.plan_without_host.networks[network.name]
    outside = network.kind == "nat" and not network.isolated
    o = o._replace(
        network=network.name,
        kind=network.kind,
        where="own" if network.kind == "bridge" else "kernel" if network.managed else "user",
        isolated=network.isolated,
        planned=str((adapter.address6 if o.by_ipv6 else adapter.address) or ""),
        prefix=adapter.prefix6 if o.by_ipv6 else adapter.prefix,
        gateway=str((net.gateway6 if o.by_ipv6 else net.gateway) or "") if outside or network.kind == "bridge" else "",
        hardware=adapter.hardware_address,
        known=_known(target) if o.named else (),
    )
    o = _asked(ws, guest, o, wait_s)
    if not o.address:
        return o
    if os.geteuid() == 0 and network.managed and (missing := confined.look(ws)) and missing.missing:
        o = o._replace(rules_missing=(missing.what(), missing.means()))
    host = _from_here(o)
    return o._replace(
        host=host,
        near=_near(o) if host and host.how in (SILENT, REJECTED, UNREACHABLE) and o.tried != GOT_IN else None,
        routed=iproute.way_to(o.from_here) is not None if o.from_here else None,
        refuses=_refused(ws, guest, o),
        dropped=_dropped(ws, o) if o.where == "kernel" else None,
        forwarding=sysctls.read("net/ipv4/ip_forward") == "1" if o.where == "kernel" and not o.by_ipv6 else None,
        unforwarded=_unforwarded(ws, o) if o.where == "kernel" else None,
    )


def _asked(ws: Workspace, guest: Guest, o: Outward, wait_s: float | None) -> Outward:
    """Add the guest's own answers, by its agent, else by a login."""
    if guest.system == "windows":
        return o._replace(mute="Windows guests cannot be queried")
    inquiry, began = Inquiry(ws, guest, ""), time.monotonic()

    def until() -> float:
        return began + patience_s(ws, guest.name, wait_s, inquiry.slowest_s, agent_runs=inquiry.waits)

    inquiry.run((LINKS,), until, login=True, enough=lambda inside: False)
    if inquiry.inside is None:
        return o._replace(mute=inquiry.mute)
    o = o._replace(inside=inquiry.inside, by="agent" if inquiry.by_agent else "login")
    said = inquiry.ask(way_script(o.target, named=o.named), max(LEAST_S, until() - time.monotonic()))
    if said is not None:
        o = read_way(said, o)
        if not o.address:
            return o  # there is no route
        said = inquiry.ask(target_script(o.address, o.port, o.gateway), max(LEAST_S, until() - time.monotonic()))
    if said is None:
        return o._replace(mute=inquiry.mute)
    o = read_way(said, o)
    if o.tried != GOT_IN:
        inquiry.run((RULES,), until, login=True, enough=lambda inside: False)
        o = o._replace(inside=inquiry.inside)
    return o


def _known(name: str) -> tuple[str, ...]:
    """The IPv4 addresses that this host has for a name."""
    with contextlib.suppress(OSError, UnicodeError):
        rows = socket.getaddrinfo(name, None, socket.AF_INET, socket.SOCK_STREAM)
        return tuple(dict.fromkeys(str(row[4][0]) for row in rows))
    return ()


def _from_here(o: Outward) -> ConnectResult | None:
    """The result of this host's own connection; None if the target is this host itself."""
    if not o.from_here or o.from_here == o.gateway or gate.own(ip_address(o.from_here)):
        return None
    try:
        return touch(o.from_here, o.port, probe_for(None), HOST_S, hear_s=0.0)
    except OSError as e:
        return ConnectResult(UNREACHABLE, False, e.strerror or str(e))


def _near(o: Outward) -> Near | None:
    """The next machine on this host's way to a target that does not answer."""
    if o.by_ipv6 or not is_uplink((way := iproute.own_way(o.from_here)).link):
        return None
    near = Near(way.router or o.from_here, way.link, bool(way.router), disconnected(way.link))
    if near.cut or os.geteuid() != 0:
        return near
    with contextlib.suppress(DachaError):
        return near._replace(answers=bool(arp.answers(way.link, IPv4Address(near.address), ARP_S, PATIENT_S)[0]))
    return near


def _refused(ws: Workspace, guest: Guest, o: Outward) -> tuple[str, str] | None:
    """The lab's own rule that blocks the guest: description, and the command that allows it."""
    network, address = ws.lab.networks[o.network], ip_address(o.address)
    if o.where == "own":
        return None
    own = o.address == o.gateway or gate.own(address)
    again = f", then dacha apply{'' if o.where == 'kernel' else f', then dacha restart {guest.name}'}"
    here = f'dacha network edit {o.network} --to-host "tcp {o.port}"{again}'
    if o.where == "user":
        machine = ws.home.read(guest.name).machine
        if machine is None or not gate_rules.asks(machine):
            return None
        lines = "\n".join(gate_rules.lines(ws.lab, live_plan(ws), machine))
        if gate.admits(lines, "tcp", address, o.port, own=own, resolvers=gate.resolvers()):
            return None
        if own:
            return f"port {o.port} of this host is closed to guests of network {o.network}", here
        if network.way_out == "internet":
            return _internet_alone(o, again)
        return (
            f"{o.address} is on another network of the lab, which user-mode guests cannot reach",
            "use one of its doors: dacha door list",
        )
    if own:
        opened = any(p.protocol in ("all", "tcp") and p.ports.first <= o.port <= p.ports.last for p in network.to_host)
        if opened or o.port == 53:
            return None
        return f"port {o.port} of this host is closed to guests of network {o.network}", here
    if network.kind != "nat" or network.isolated:
        return f"network {o.network} has no way out", f"dacha network edit {o.network} --open{again}"
    if network.way_out == "internet" and _private(address):
        return _internet_alone(o, again)
    return None


def _internet_alone(o: Outward, again: str) -> tuple[str, str]:
    what = (
        f"{o.address} is a private address, and network {o.network} has a way to the internet only (way-out = "
        '"internet")'
    )
    return what, f"dacha network edit {o.network} --way-out anywhere{again}"


def _private(address: IPv4Address | IPv6Address) -> bool:
    ranges = next((text for family, text in PRIVATE if family == ("ip6" if address.version == 6 else "ip")), "")
    return any(address in ip_network(r.strip()) for r in ranges.split(",") if r.strip())


def _unforwarded(ws: Workspace, o: Outward) -> Unforwarded | None:
    """What the kernel does not forward of the connection, if it leaves this host."""
    if o.by_ipv6 or ":" in o.address or not o.planned:
        return None
    return unforwarded_outward(ws.lab.name, o.network, o.planned, o.address)


def _dropped(ws: Workspace, o: Outward) -> Dropped | None:
    """Another program's rule on this host that certainly drops the outgoing connection, or the replies to it."""
    rules = others.listing() if os.geteuid() == 0 else None
    adapter = next(iter(live_plan(ws).adapters_of(o.guest)), None)
    if rules is None or adapter is None or not o.address:
        return None
    # What stays on the guest's network, or is for this host itself, is not forwarded.
    outer = iproute.way_to(o.address)
    if outer in (None, "lo", link_name(ws.lab.name, "network", o.network)):
        return None
    return others.dropped_outward(ws.lab, adapter, rules, o.planned, o.address, o.port, outer or "")
