"""Neighbour discovery: which machine uses an IPv6 address, and the solicitation for it (RFC 4861 section 4)."""

from __future__ import annotations

from ipaddress import IPv6Address

from dacha.core.errors import PeerError
from dacha.core.named import NamedTuple

NEIGHBOUR_SOLICITATION, NEIGHBOUR_ADVERTISEMENT, ICMPV6 = 135, 136, 58
ETHERTYPE_IPV6 = 0x86DD
_HEADER, _BODY = 40, 24


class Neighbour(NamedTuple):
    """A solicitation or an advertisement: its type, its sender, and its target address."""

    kind: int
    source: IPv6Address
    target: IPv6Address

    def in_use(self) -> IPv6Address | None:
        """The address that its sender uses. Checking whether an address is free is not a use (RFC 4862 section 5.4.2:
        from the unspecified address)."""
        if self.kind == NEIGHBOUR_ADVERTISEMENT:
            return self.target
        return None if self.source.is_unspecified else self.source


def decode_neighbour(packet: bytes) -> Neighbour:
    """Read an IPv6 packet with neighbour discovery. Raises PeerError for any other."""
    if len(packet) < _HEADER + _BODY or packet[0] >> 4 != 6:
        raise PeerError(f"truncated neighbour discovery packet: {len(packet)} bytes")
    # Extension headers before it are not trusted: it must come first. A hop limit below 255 shows that it was sent from
    # beyond the link (RFC 4861 section 7.1.1).
    if packet[6] != ICMPV6 or packet[7] != 255:
        raise PeerError("neighbour discovery: wrong protocol, or a hop limit below 255")
    kind = packet[_HEADER]
    if kind not in (NEIGHBOUR_SOLICITATION, NEIGHBOUR_ADVERTISEMENT) or packet[_HEADER + 1]:
        raise PeerError("neighbour discovery: unexpected message type")
    return Neighbour(kind, IPv6Address(packet[8:24]), IPv6Address(packet[_HEADER + 8 : _HEADER + 24]))
