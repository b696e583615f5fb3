"""The way from outside: what the router above this host has to lead to it, and what is known of how it does.

Pure: who asks the router is in `host.router`, who keeps the mappings standing is in `engine.router`.
"""

from __future__ import annotations

from collections.abc import Sequence
from ipaddress import IPv4Address, IPv4Network, IPv6Network

from dacha.core.lab.model import Lab
from dacha.core.named import NamedTuple
from dacha.core.plan.plan import Plan

# Asked for at every mapping, as both protocols recommend (RFC 6886 section 3.3; RFC 6887 section 15).
LIFETIME_S = 7200
# How often the router is asked whether it still keeps what it was told; one small datagram.
LOOK_S = 60.0
# After a failure it is asked again this often.
AGAIN_S = 30.0
# Where there is no router, nobody is asked; the route is looked for this often.
ROUTE_AGAIN_S = 5.0
NO_ROUTE = "this host has no default route, so no router"
# Addresses that nobody on the internet can send to, and why (RFC 1918, 6598, 3927, 6333).
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
    """One port that the router should lead in: from its outside port to an address and port on the LAN.

    `third` is true where that address is a guest's own and not this host's; with `fixed` no other outside port will do.
    """

    guest: str
    door: str
    protocol: str
    outside_port: int
    to: str
    port: int
    third: bool = False
    fixed: bool = False


class Mapping(NamedTuple):
    """One that the router has granted: which outside port it became, by which nonce it is known (PCP, hexadecimal),
    from when on (Unix seconds) for how long, and by which protocol it was asked for."""

    wanted: MappingRequest
    outside_port: int
    nonce: str
    made: float
    lifetime_s: float
    speaks: str = ""

    def due(self) -> float:
        """When it is to be renewed: halfway through (RFC 6887 section 11.2.1)."""
        return self.made + self.lifetime_s / 2

    def stands(self, now: float) -> bool:
        return now < self.made + self.lifetime_s


class RouterState(NamedTuple):
    """What is known of the router: its address, how it is spoken to ("pcp", "nat-pmp", "upnp", "" for not at all), the
    outside address that it told, since when it keeps its mappings (`epoch_s`, told at `heard`), what it granted of what
    it was asked, and what went wrong, for all or by (guest, door)."""

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
        """The first port's mapping of a door, while it stands."""
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
    """The one line to enter in a router that cannot be asked, for all ports of one door."""
    first, last = ports[0], ports[-1]
    word, outside, inside = "port", str(first.outside_port), str(first.port)
    if len(ports) > 1:
        word, outside, inside = "ports", f"{outside}-{last.outside_port}", f"{inside}-{last.port}"
    return f"outside {word} {outside}, {first.protocol.upper()}, to {first.to}, {word} {inside}"


def outside_address(told: str) -> str:
    """The outside address that a router tells, "" where what it says is none: its words go into files and commands.
    One that has none at the moment says 0.0.0.0."""
    try:
        value = IPv4Address(told)
    except ValueError:
        return ""
    return "" if value.is_unspecified else str(value)


def behind(address: str) -> str | None:
    """Why an outside address is none: another NAT lies above the router that has it. None for a public one."""
    try:
        value = IPv4Address(address)
    except ValueError:
        return None
    return next((f"{address} is {what}" for net, what in _BEHIND if value in net), None)


def private(sources: Sequence[IPv4Network | IPv6Network]) -> bool:
    """True when nobody on the internet has an address of any of these; False for none at all."""
    four = [n for n in sources if isinstance(n, IPv4Network)]
    return bool(sources) and all(any(n.subnet_of(net) for net, _ in _BEHIND) for n in four)


def lost(before: RouterState, epoch_s: int, now: float) -> bool:
    """True when the router has lost its mappings since it was heard last: its clock has not gone on as ours has.

    RFC 6887 section 8.5, with its tolerances; RFC 6886 section 3.6 is the same but for the figures.
    """
    if not before.heard or before.speaks == "upnp":
        return False
    if epoch_s < before.epoch_s - 1:
        return True
    ours, theirs = now - before.heard, float(epoch_s - before.epoch_s)
    return ours + 2 < theirs - theirs / 16 or theirs + 2 < ours - ours / 16


def next_look(known: RouterState, now: float) -> float:
    """Seconds until the router is to be asked again."""
    if known.trouble == NO_ROUTE:
        return ROUTE_AGAIN_S
    if known.trouble or known.refused:
        return AGAIN_S
    due = min((m.due() for m in known.mappings), default=now + LOOK_S)
    return max(1.0, min(LOOK_S, due - now))
