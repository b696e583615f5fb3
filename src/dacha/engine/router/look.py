"""The evidence about the router for one door: queried now, compared with what it granted."""

from __future__ import annotations

import os
import time
from ipaddress import IPv4Address

from dacha.core.errors import AnswerNo, HostError
from dacha.core.plan.doors import DoorPlan
from dacha.core.router.mapping import NO_ROUTE, Mapping, MappingRequest, RouterState, behind, by_hand, lost
from dacha.core.trace.seen.results import RouterSeen
from dacha.engine.router import mappings
from dacha.engine.workspace import Workspace
from dacha.host.network import addresses, arp
from dacha.host.probe.connect import touch
from dacha.host.router import datagram, finding
from dacha.wire.probes import probe_for

# Connecting to the outside address from inside works with some routers only, and is fast if it does.
HAIRPIN_S, ARP_S = 1.0, 0.5


def look(ws: Workspace, door: DoorPlan, *, hairpin: bool) -> RouterSeen:
    """Query the router about one door, and with `hairpin` connect to its outside address. Raises nothing of its own:
    failures are part of the result."""
    key = (door.door.guest, door.door.name)
    mine = [w for w in mappings.requests_now(ws) if (w.guest, w.door) == key]
    if not mine:
        return RouterSeen(trouble="the door has no address on the LAN")
    there, known, now = mappings.router_of(ws), mappings.read(ws.home), time.time()
    if there is None:
        trouble = "" if ws.lab.by_hand else NO_ROUTE
        return RouterSeen(port=mine[0].outside_port, trouble=trouble, by_hand=by_hand(mine))
    granted = next((m for m in known.mappings if (m.wanted.guest, m.wanted.door) == key), None)
    seen = RouterSeen(
        router=there[0], speaks=granted.speaks if granted else known.speaks, address=known.address,
        by_hand=by_hand(mine), port=granted.outside_port if granted else mine[0].outside_port,
        above=behind(known.address) if granted else None,
    )  # fmt: skip
    try:
        mapped = _mapped(known, granted, mine[0], there, now)
    except AnswerNo as e:
        shut = e.what == datagram.SHUT
        return seen._replace(
            trouble=e.what, there=shut or _is_there(there[0]), shut=shut, mapped="there" if granted else None
        )
    if mapped == "missing":
        seen = seen._replace(trouble=known.why_not(*key))
    # The simulated router on this host has no outside that the kernel knows: nothing may be sent to the address that it
    # reports.
    if hairpin and mapped == "there" and known.address and door.door.protocol == "tcp" and not ws.lab.simulated:
        probe = probe_for(door.door.service)
        seen = seen._replace(hairpin=touch(known.address, seen.port, probe, HAIRPIN_S) if not seen.above else None)
    return seen._replace(mapped=mapped)


def _mapped(
    known: RouterState, granted: Mapping | None, want: MappingRequest, there: tuple[str, str], now: float
) -> str | None:
    """The router's mapping of the door's outside port. Raises AnswerNo if it does not respond."""
    if known.router != there[0] or (want not in known.asked and granted is None):
        return None  # it was not requested yet
    if not known.speaks:
        return "missing" if known.trouble else None
    mapper = finding.named(granted.speaks if granted else known.speaks, *there)
    seen = mapper.look()
    if granted is None:
        return "missing"
    if not granted.stands(now):
        return "lapsed"
    if mapper.name == known.speaks and lost(known, seen.epoch_s, now):
        return "forgotten"
    places = mapper.lookup([granted])
    if places is not None and places[0] != (want.to, want.port):
        return f"{places[0][0]}, port {places[0][1]}" if places[0] else "missing"
    if (granted.wanted.to, granted.wanted.port) != (want.to, want.port):
        return f"{granted.wanted.to}, port {granted.wanted.port}"
    return "there"


def _is_there(address: str) -> bool | None:
    """Whether the router responds on its link at all; None if that cannot be checked."""
    interface = addresses.lan_interface()
    if os.geteuid() != 0 or interface is None or IPv4Address(address).is_loopback:
        return None
    try:
        return bool(arp.answers(interface, IPv4Address(address), ARP_S)[0])
    except (HostError, OSError):
        return None
