"""Access from outside: the mappings that the router should have, and what is known of them. Pure: `host.router` sends
the requests, `engine.router` keeps the mappings alive."""

from __future__ import annotations

from collections.abc import Sequence
from ipaddress import IPv4Address, IPv4Network, IPv6Network

from dacha.core.lab.model import Lab
from dacha.core.named import NamedTuple
from dacha.core.plan.plan import Plan

# The requested lifetime, as both protocols recommend (RFC 6886 section 3.3; RFC 6887 section 15).
LIFETIME_S = 7200
# The interval for checking whether the router still has its mappings; one small datagram.
LOOK_S = 60.0
# The interval after a failure.
AGAIN_S = 30.0
# The interval for looking for a default route if there is none.
ROUTE_AGAIN_S = 5.0
NO_ROUTE = "this host has no default route, so no router"
# Addresses that are not reachable from the internet, and why (RFC 1918, 6598, 3927, 6333).
_BEHIND = (
    (IPv4Network("10.0.0.0/8"), "a private address"),
    (IPv4Network("172.16.0.0/12"), "a private address"),
    (IPv4Network("192.168.0.0/16"), "a private address"),
    (IPv4Network("100.64.0.0/10"), "a provider's shared address"),
    (IPv4Network("192.0.0.0/29"), "an address that several customers share"),
    (IPv4Network("169.254.0.0/16"), "a link-local address"),
    (IPv4Network("127.0.0.0/8"), "a loopback address"),
)


class MappingRequest(NamedTuple):
    """One port that the router should forward: from its outside port to an address and port on the LAN. `third` is true
    if that address is a guest's own, not this host's; with `fixed` no other outside port is acceptable."""

    guest: str
    door: str
    protocol: str
    outside_port: int
    to: str
    port: int
    third: bool = False
    fixed: bool = False


class Mapping(NamedTuple):
    """A granted mapping: its outside port, its nonce (PCP, hexadecimal), its start (Unix seconds), lifetime, and the
    protocol of the request."""

    wanted: MappingRequest
    outside_port: int
    nonce: str
    made: float
    lifetime_s: float
    speaks: str = ""

    def due(self) -> float:
        """When to renew it: after half of its lifetime (RFC 6887 section 11.2.1)."""
        return self.made + self.lifetime_s / 2

    def stands(self, now: float) -> bool:
        return now < self.made + self.lifetime_s


class RouterState(NamedTuple):
    """What is known of the router: its address, its protocol ("pcp", "nat-pmp", "upnp", "" for none), the outside
    address that it reported, since when it keeps its mappings (`epoch_s`, received at `heard`), what it granted, and
    errors, for all or by (guest, door)."""

    router: str = ""
    speaks: str = ""
    address: str = ""
    epoch_s: int = 0
    heard: float = 0.0
    mappings: tuple[Mapping, ...] = ()
    asked: tuple[MappingRequest, ...] = ()
    trouble: str = ""
    refused: tuple[tuple[str, str, str], ...] = ()

    def of(self, guest: str, door: str, now: float) -> Mapping | None:
        """The first port's mapping of a door, while it is valid."""
        mine = (m for m in self.mappings if (m.wanted.guest, m.wanted.door) == (guest, door))
        return next((m for m in mine if m.stands(now)), None)

    def why_not(self, guest: str, door: str) -> str:
        """Why a door has no mapping."""
        return next((why for g, d, why in self.refused if (g, d) == (guest, door)), self.trouble)


UNKNOWN = RouterState()


def requests(lab: Lab, plan: Plan, lan: IPv4Address | None) -> list[MappingRequest]:
    """Every port that the lab's doors from outside need, in file order; `lan` is this host's address on the LAN."""
    found = []
    for door in plan.doors.values():
        if door.door.origin != "outside" or door.means == "none":
            continue
        place = door.enter_at(lan)
        if place is None or place[0].version == 6 or (place[0].is_loopback and not (lan and lan.is_loopback)):
            continue
        first = door.door.outside_port or place[1]
        for n in range(door.door.to.width):
            own = door.means == "own"
            found.append(
                MappingRequest(
                    door.door.guest,
                    door.door.name,
                    door.door.protocol,
                    first + n,
                    str(place[0]),
                    place[1] + n,
                    own,
                    door.door.outside_port is not None or door.door.to.width > 1,
                )
            )
    return found


def by_hand(ports: Sequence[MappingRequest]) -> str:
    """The line to enter in a router without a supported protocol, for all ports of one door."""
    first, last = ports[0], ports[-1]
    word, outside, inside = "port", str(first.outside_port), str(first.port)
    if len(ports) > 1:
        word, outside, inside = "ports", f"{outside}-{last.outside_port}", f"{inside}-{last.port}"
    return f"outside {word} {outside}, {first.protocol.upper()}, to {first.to}, {word} {inside}"


def outside_address(told: str) -> str:
    """The outside address that a router reports, "" if it is invalid: the value goes into files and commands. A router
    without one reports 0.0.0.0."""
    try:
        value = IPv4Address(told)
    except ValueError:
        return ""
    return "" if value.is_unspecified else str(value)


def behind(address: str) -> str | None:
    """Why an outside address is not reachable: another NAT is in front of the router. None for a public one."""
    try:
        value = IPv4Address(address)
    except ValueError:
        return None
    return next((f"{address} is {what}" for net, what in _BEHIND if value in net), None)


def private(sources: Sequence[IPv4Network | IPv6Network]) -> bool:
    """True if none of these addresses is on the internet; False for an empty list."""
    four = [n for n in sources if isinstance(n, IPv4Network)]
    return bool(sources) and all(any(n.subnet_of(net) for net, _ in _BEHIND) for n in four)


def lost(before: RouterState, epoch_s: int, now: float) -> bool:
    """True if the router has lost its mappings since it was last heard: its clock deviates from ours. RFC 6887 section
    8.5, with its tolerances; RFC 6886 section 3.6 is the same except for the figures."""
    if not before.heard or before.speaks == "upnp":
        return False
    if epoch_s < before.epoch_s - 1:
        return True
    ours, theirs = now - before.heard, float(epoch_s - before.epoch_s)
    return ours + 2 < theirs - theirs / 16 or theirs + 2 < ours - ours / 16


def next_look(known: RouterState, now: float) -> float:
    """Seconds until the next request to the router."""
    if known.trouble == NO_ROUTE:
        return ROUTE_AGAIN_S
    if known.trouble or known.refused:
        return AGAIN_S
    due = min((m.due() for m in known.mappings), default=now + LOOK_S)
    return max(1.0, min(LOOK_S, due - now))
