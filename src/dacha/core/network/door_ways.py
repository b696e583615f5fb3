"""A record of the doors that the loaded firewall rules open: a later load compares it with its own, and ends
connections through doors that it closes."""

from __future__ import annotations

from collections.abc import Collection
from ipaddress import IPv4Address, IPv6Address, ip_network

from dacha.core.named import NamedTuple
from dacha.core.plan.plan import Plan

Address = IPv4Address | IPv6Address
ANYBODY = "-"


class DoorWay(NamedTuple):
    """One door: listen address (0: every address of this host) and ports, the guest's address and port, and the allowed
    sources. Addresses are numbers: with ten thousand doors, formatting is too slow. `allow` is a comma-separated list
    of networks, or "-" for every client."""

    guest: str
    name: str
    listen: int
    first: int
    last: int
    inside: int
    to: int
    protocol: str
    allow: str

    def carries(self, protocol: str, port: int, inside: Address, to: int) -> bool:
        """True for a connection to one of its ports that was forwarded to its guest's address and port."""
        return (
            protocol == self.protocol
            and self.first <= port <= self.last
            and int(inside) == self.inside
            and to == self.to + port - self.first
        )

    def admits(self, source: Address, at: Address) -> bool:
        """True for a client that may enter it at that address of this host."""
        if self.listen and int(at) != self.listen:
            return False
        networks = () if self.allow == ANYBODY else map(ip_network, self.allow.split(","))
        return self.allow == ANYBODY or any(source.version == n.version and source in n for n in networks)


def read_way(line: str) -> DoorWay | None:
    """A recorded door; None for a line of an older version, which is less complete."""
    words = line.split(" ")
    if len(words) != len(DoorWay._fields):
        return None
    guest, name, listen, first, last, inside, to, protocol, allow = words
    return DoorWay(guest, name, int(listen), int(first), int(last), int(inside), int(to), protocol, allow)


def way_lines(plan: Plan) -> list[str]:
    """Every door that the kernel's rules forward, a line each, as `read_way` reads it."""
    lines = []
    numbers: dict[int, int] = {}

    def number(address: Address) -> int:
        found = numbers.get(id(address))
        if found is None:
            found = numbers[id(address)] = int(address)
        return found

    for (guest, name), d in plan.doors.items():
        if d.backend != "kernel" or d.means != "forward" or d.port is None or d.adapter is None:
            continue
        inside = d.adapter.address6 if d.listen.version == 6 else d.adapter.address
        if inside is not None:
            door, port = d.door, d.port
            allow = ",".join(map(str, door.allow)) if door.allow else ANYBODY
            place = f"{number(d.listen)} {port.first} {port.last} {number(inside)} {door.to.first}"
            lines.append(f"{guest} {name} {place} {door.protocol} {allow}")
    return lines


def ways(plan: Plan) -> list[DoorWay]:
    """The same as values."""
    return [way for line in way_lines(plan) if (way := read_way(line))]


class Closed(NamedTuple):
    """The doors that a load closed or restricted, and those in force."""

    gone: Collection[DoorWay]
    now: Collection[DoorWay]

    def door_of(
        self, protocol: str, who: Address, place: Address, port: int, there: Address, to: int
    ) -> tuple[str, str] | None:
        """The closed door that a client (`who`) used for a connection to this address and port of this host; None for a
        connection that may continue."""
        former = next((w for w in self.gone if w.carries(protocol, port, there, to)), None)
        if former is None:
            return None
        if any(w.carries(protocol, port, there, to) and w.admits(who, place) for w in self.now):
            return None
        return former.guest, former.name
