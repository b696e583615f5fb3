"""Router advertisements (RFC 4861 section 4.2, with name servers by RFC 8106): what a network's router says of it."""

from __future__ import annotations

import struct
from collections.abc import Iterable
from ipaddress import IPv6Address, IPv6Network

from dacha.core.named import NamedTuple
from dacha.wire.dhcp.dhcp4 import encode_search

SOLICITATION, ADVERTISEMENT = 133, 134
ALL_NODES, ALL_ROUTERS = IPv6Address("ff02::1"), IPv6Address("ff02::2")
# How long a guest may go on without hearing again, and how often it hears (RFC 4861 section 6.2.1, its defaults).
LIFETIME_S, INTERVAL_S = 1800, (200.0, 600.0)
_FOREVER = 0xFFFFFFFF


class Advertisement(NamedTuple):
    """What is advertised. Addresses come by DHCP (the flags M and O), so that they are the planned ones; a network
    without a way out has no default route (`router` False)."""

    prefix: IPv6Network
    router: bool
    name_servers: tuple[IPv6Address, ...]
    domain: str
    hardware: bytes


def encode(a: Advertisement) -> bytes:
    """The ICMPv6 message; its checksum is left to the kernel, which knows the source address."""
    out = struct.pack(">BBHBBHII", ADVERTISEMENT, 0, 0, 64, 0xC0, LIFETIME_S if a.router else 0, 0, 0)
    out += bytes((1, 1)) + a.hardware
    # On the link (L), but nobody makes addresses of it by himself (no A).
    out += struct.pack(">BBBBIII", 3, 4, a.prefix.prefixlen, 0x80, _FOREVER, _FOREVER, 0)
    out += a.prefix.network_address.packed
    out += _option(25, struct.pack(">HI", 0, LIFETIME_S), (x.packed for x in a.name_servers))
    out += _option(31, struct.pack(">HI", 0, LIFETIME_S), [encode_search([a.domain])])
    return out


def _option(kind: int, head: bytes, parts: Iterable[bytes]) -> bytes:
    """An option, its length in units of eight bytes and padded to them; nothing for no content."""
    content = b"".join(parts)
    if not content:
        return b""
    body = head + content
    body += bytes(-(len(body) + 2) % 8)
    return bytes((kind, (len(body) + 2) // 8)) + body
