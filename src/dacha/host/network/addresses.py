"""The addresses and routed subnets of this host, from the kernel's own tables."""

from __future__ import annotations

from collections.abc import Collection
from ipaddress import IPv4Address, IPv4Network

from dacha.core.named import NamedTuple

_ROUTES = "/proc/net/route"
# A wider route is not a subnet: the largest private block is a /8.
WIDEST = 4


class Route(NamedTuple):
    """A row of the kernel's main routing table (proc(5)); addresses as numbers."""

    interface: str
    to: int
    via: int
    mask: int
    metric: int


def routes() -> list[Route]:
    """The main IPv4 routing table; empty if it cannot be read."""
    import struct

    def number(text: str) -> int:
        # A 32-bit number in this machine's byte order, in hexadecimal.
        return int(struct.unpack(">I", struct.pack("=I", int(text, 16)))[0])

    try:
        with open(_ROUTES) as f:
            rows = [line.split() for line in f.read().splitlines()[1:]]
    except OSError:
        return []
    return [Route(r[0], number(r[1]), number(r[2]), number(r[7]), int(r[6])) for r in rows if len(r) > 7]


def used_subnets(own: Collection[str] = ()) -> list[IPv4Network]:
    """Every IPv4 subnet in the host's main routing table (proc(5)), except default routes and their halves (a VPN's
    0.0.0.0/1 and 128.0.0.0/1), and those behind the links `own`."""
    found = set()
    for route in routes():
        prefix = route.mask.bit_count()
        if route.interface not in own and WIDEST < prefix < 32:
            found.add(IPv4Network((route.to & route.mask, prefix)))
    return sorted(found)


def lan_address() -> IPv4Address | None:
    """The address of this host on the LAN: the source of its default route, else its address on the first network that
    it is connected to. None without either."""
    address = source_to("192.0.2.1")  # TEST-NET-1 (RFC 5737): nothing is sent there
    if address is None and (route := lan_route(routes())):
        address = source_to(str(IPv4Address(route.to + 1)))
    return None if address is None or address.is_loopback else address


def lan_clients() -> list[IPv4Address]:
    """Two addresses that stand for clients on the LAN: the router's, and another one of its subnet."""
    lan, table = lan_address(), routes()
    default = lan_route(table)
    if lan is None or default is None:
        return []
    found = [IPv4Address(default.via)] if default.via else []
    for route in table:
        subnet = IPv4Network((route.to & route.mask, route.mask.bit_count()))
        if route.interface == default.interface and not route.via and lan in subnet:
            near = (lan + 1, lan - 1, lan + 2, lan - 2)
            ends = (subnet.network_address, subnet.broadcast_address, *found)
            return [*found, *[a for a in near if a in subnet and a not in ends][:1]]
    return found


def source_to(address: str) -> IPv4Address | None:
    """The source address of this host for another machine; None without a route."""
    import _socket  # as in host/probe/ports.py

    s = _socket.socket(_socket.AF_INET, _socket.SOCK_DGRAM)
    try:
        s.connect((address, 9))  # a datagram socket only looks up the route
        return IPv4Address(s.getsockname()[0])
    except OSError:
        return None
    finally:
        s.close()


def default_route(table: list[Route]) -> Route | None:
    """The active default route of a table: the one with the lowest metric."""
    return min((r for r in table if not r.to and not r.mask), key=lambda r: r.metric, default=None)


def lan_route(table: list[Route]) -> Route | None:
    """The route that leads to the LAN: the default route, else that of the first network on an Ethernet link which
    belongs neither to a lab nor to another program's guests."""
    if route := default_route(table):
        return route
    from dacha.host.network.link.uplink import is_uplink  # late: most hosts have a default route

    near = (r for r in table if not r.via and WIDEST < r.mask.bit_count() < 31 and is_uplink(r.interface))
    return min(near, key=lambda r: r.metric, default=None)


def lan_interface() -> str | None:
    """The link to the LAN; None without one."""
    route = lan_route(routes())
    return route.interface if route else None


def gateway() -> IPv4Address | None:
    """The router of this host's default route; None without one."""
    route = default_route(routes())
    return IPv4Address(route.via) if route and route.via else None
