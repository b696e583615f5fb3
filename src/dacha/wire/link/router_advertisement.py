"""Router advertisements (RFC 4861 section 4.2, with name servers by RFC 8106)."""

from __future__ import annotations

import struct
from collections.abc import Iterable
from ipaddress import IPv6Address, IPv6Network

from dacha.core.named import NamedTuple
from dacha.wire.dhcp.dhcp4 import encode_search

SOLICITATION, ADVERTISEMENT = 133, 134
ALL_NODES, ALL_ROUTERS = IPv6Address("ff02::1"), IPv6Address("ff02::2")
# The lifetime of an advertisement, and the interval between two (RFC 4861 section 6.2.1, its defaults).
LIFETIME_S, INTERVAL_S = 1800, (200.0, 600.0)
_FOREVER = 0xFFFFFFFF


class Advertisement(NamedTuple):
    """The contents of an advertisement. Addresses are assigned by DHCP (the flags M and O), so that they are the
    planned ones; a network without a way out has no default route (`router` False)."""

    prefix: IPv6Network
    router: bool
    name_servers: tuple[IPv6Address, ...]
    domain: str
    hardware: bytes


def encode(a: Advertisement) -> bytes:
    """The ICMPv6 message; the kernel computes its checksum, as it knows the source address."""
    out = struct.pack(">BBHBBHII", ADVERTISEMENT, 0, 0, 64, 0xC0, LIFETIME_S if a.router else 0, 0, 0)
    out += bytes((1, 1)) + a.hardware
    # On-link (L), but not for automatic address configuration (no A).
    out += struct.pack(">BBBBIII", 3, 4, a.prefix.prefixlen, 0x80, _FOREVER, _FOREVER, 0)
    out += a.prefix.network_address.packed
    out += _option(25, struct.pack(">HI", 0, LIFETIME_S), (x.packed for x in a.name_servers))
    out += _option(31, struct.pack(">HI", 0, LIFETIME_S), [encode_search([a.domain])])
    return out


def _option(kind: int, head: bytes, parts: Iterable[bytes]) -> bytes:
    """An option with its length in units of eight bytes, padded to them; empty for no content."""
    content = b"".join(parts)
    if not content:
        return b""
    body = head + content
    body += bytes(-(len(body) + 2) % 8)
    return bytes((kind, (len(body) + 2) // 8)) + body
