"""The addresses and routed subnets of this host, from the kernel's own tables."""

from __future__ import annotations

from collections.abc import Collection
from ipaddress import IPv4Address, IPv4Network

_ROUTES = "/proc/net/route"
# A wider route is not a subnet: the largest private block is a /8.
WIDEST = 4


def used_subnets(own: Collection[str] = ()) -> list[IPv4Network]:
    """Every IPv4 subnet in the host's main routing table (proc(5)), except default routes and their halves (a VPN's
    0.0.0.0/1 and 128.0.0.0/1), and those behind the links `own`."""
    import struct

    found = set()
    try:
        with open(_ROUTES) as f:
            rows = f.read().splitlines()[1:]
    except OSError:
        return []
    for row in rows:
        fields = row.split()
        if fields[0] in own:
            continue
        # Both are 32-bit numbers in this machine's byte order, in hexadecimal.
        destination, mask = (struct.unpack(">I", struct.pack("=I", int(fields[n], 16)))[0] for n in (1, 7))
        prefix = mask.bit_count()
        if WIDEST < prefix < 32:
            found.add(IPv4Network((destination & mask, prefix)))
    return sorted(found)


def lan_address() -> IPv4Address | None:
    """The address of this host on the LAN: the source of its default route. None without such a route."""
    address = source_to("192.0.2.1")  # TEST-NET-1 (RFC 5737): nothing is sent there
    return None if address is None or address.is_loopback else address


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


def _default_route() -> list[str] | None:
    """The row of the active default route: the one with the lowest metric."""
    try:
        with open(_ROUTES) as f:
            rows = [line.split() for line in f.read().splitlines()[1:]]
    except OSError:
        return None
    found = [row for row in rows if len(row) > 7 and row[1] == row[7] == "00000000"]
    return min(found, key=lambda row: int(row[6]), default=None)


def lan_interface() -> str | None:
    """The link of this host's default route; None without one."""
    row = _default_route()
    return row[0] if row else None


def gateway() -> IPv4Address | None:
    """The router of this host's default route; None without one."""
    import struct

    row = _default_route()
    number = struct.unpack(">I", struct.pack("=I", int(row[2], 16)))[0] if row else 0
    return IPv4Address(number) if number else None
