"""What addresses this host has and which subnets it routes, from the kernel's own tables."""

from __future__ import annotations

from collections.abc import Collection
from ipaddress import IPv4Address, IPv4Network

_ROUTES = "/proc/net/route"


def used_subnets(own: Collection[str] = ()) -> list[IPv4Network]:
    """Every IPv4 subnet in the host's main routing table (proc(5)), without the default route, and without those
    behind the links `own`."""
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
        # Both are 32-bit numbers in this machine's byte order, written in hexadecimal.
        destination, mask = (struct.unpack(">I", struct.pack("=I", int(fields[n], 16)))[0] for n in (1, 7))
        prefix = mask.bit_count()
        if 0 < prefix < 32:
            found.add(IPv4Network((destination & mask, prefix)))
    return sorted(found)


def lan_address() -> IPv4Address | None:
    """The address of this host that the LAN knows: the source of its default route. None when it has no such route."""
    import socket

    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as s:
        try:
            s.connect(
                ("192.0.2.1", 9)
            )  # TEST-NET-1 (RFC 5737): a datagram socket only looks the route up, nothing is sent
        except OSError:
            return None
        address = IPv4Address(s.getsockname()[0])
    return None if address.is_loopback else address


def lan_interface() -> str | None:
    """The link of this host's default route; None when it has none."""
    try:
        with open("/proc/net/route") as f:
            rows = [line.split() for line in f.read().splitlines()[1:]]
    except OSError:
        return None
    return next((row[0] for row in rows if len(row) > 7 and row[1] == row[7] == "00000000"), None)
