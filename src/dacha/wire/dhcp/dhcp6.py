"""DHCP for IPv6 (RFC 8415): reservations for guests, and parameters for every client. No state is kept: addresses
belong to guests by the lab file, not by order of request."""

from __future__ import annotations

import struct
from ipaddress import IPv6Address, IPv6Network

from dacha.core.errors import PeerError
from dacha.core.named import NamedTuple
from dacha.wire.dhcp.dhcp4 import encode_search

SERVER_PORT, CLIENT_PORT = 547, 546
ALL_SERVERS = IPv6Address("ff02::1:2")
SOLICIT, ADVERTISE, REQUEST, CONFIRM, RENEW, REBIND, REPLY, RELEASE, DECLINE, INFORMATION = (
    1,
    2,
    3,
    4,
    5,
    6,
    7,
    8,
    9,
    11,
)
_CLIENT, _SERVER, _IA, _ADDRESS, _STATUS, _RAPID, _NAMES, _DOMAINS, _PREFIXES = 1, 2, 3, 5, 13, 14, 23, 24, 25
_OK, _NONE, _OFF_LINK, _NO_PREFIX = 0, 2, 4, 6
_WITHOUT = b"no prefixes are delegated here"
# Seconds: T1, T2, preferred and valid lifetime (the ratios of RFC 8415 section 21.4).
_T1, _T2, PREFERRED_S, VALID_S = 1800, 2880, 3600, 7200


class Message(NamedTuple):
    """A message between client and server; an option may come more than once."""

    kind: int
    transaction: bytes
    options: tuple[tuple[int, bytes], ...]

    def first(self, code: int) -> bytes | None:
        return next((value for c, value in self.options if c == code), None)


def decode(data: bytes) -> Message:
    """Read one message. Raises PeerError with the invalid offset."""
    if len(data) < 4:
        raise PeerError(f"truncated DHCPv6 message: {len(data)} bytes")
    return Message(data[0], data[1:4], decode_options(data, 4))


def decode_options(data: bytes, at: int) -> tuple[tuple[int, bytes], ...]:
    found = []
    while at < len(data):
        if at + 4 > len(data):
            raise PeerError(f"DHCPv6: truncated option at {at}")
        code, length = struct.unpack_from(">HH", data, at)
        if at + 4 + length > len(data):
            raise PeerError(f"DHCPv6: truncated option {code} at {at}")
        found.append((code, data[at + 4 : at + 4 + length]))
        at += 4 + length
    return tuple(found)


def encode(m: Message) -> bytes:
    return bytes((m.kind,)) + m.transaction + encode_options(m.options)


def encode_options(options: tuple[tuple[int, bytes], ...]) -> bytes:
    return b"".join(struct.pack(">HH", code, len(value)) + value for code, value in options)


class Scope6(NamedTuple):
    """The configuration of one network; `identifier` is the server's own (DUID)."""

    subnet: IPv6Network
    identifier: bytes
    reservations: dict[bytes, IPv6Address]
    name_servers: tuple[IPv6Address, ...]
    domain: str


def identifier_of(hardware: bytes) -> bytes:
    """A server's identifier from its link's address (DUID-LL, RFC 8415 section 11.4)."""
    return struct.pack(">HH", 3, 1) + hardware


def hardware_of(
    source: IPv6Address, duid: bytes, known: dict[bytes, IPv6Address], heard: bytes | None = None
) -> bytes | None:
    """The guest that sent a request: by the adapter `heard` to use its link-local address, or whose hardware address
    that contains (RFC 4291 appendix A); else by the hardware address in its identifier, which may be of another adapter
    (RFC 8415 section 11: a client has one identifier for all)."""
    if heard is not None:
        return heard if heard in known else None
    low = source.packed[8:]
    found = []
    if in_address(source):
        found.append(bytes((low[0] ^ 2,)) + low[1:3] + low[5:])
    if duid[:4] == b"\0\1\0\1":
        found.append(duid[8:14])
    if duid[:4] == b"\0\3\0\1":
        found.append(duid[4:10])
    return next((h for h in found if h in known), None)


def in_address(source: IPv6Address) -> bool:
    """True for a link-local address derived from a hardware address (RFC 4291 appendix A)."""
    return source.packed[11:13] == b"\xff\xfe"


def answer(scope: Scope6, m: Message, source: IPv6Address, heard: bytes | None = None) -> Message | None:
    """The server's answer to a message from `source`, which the adapter with the hardware address `heard` was heard to
    use; None if it needs no answer (RFC 8415 section 18.3)."""
    client, server = m.first(_CLIENT), m.first(_SERVER)
    if server is not None and server != scope.identifier:
        return None
    if m.kind in (SOLICIT, CONFIRM, REBIND) and (client is None or server is not None):
        return None
    if m.kind in (REQUEST, RENEW, RELEASE, DECLINE) and (client is None or server is None):
        return None
    said: list[tuple[int, bytes]] = [(_SERVER, scope.identifier)]
    if client is not None:
        said.append((_CLIENT, client))
    if m.kind == INFORMATION:
        return Message(REPLY, m.transaction, (*said, *_parameters(scope)))
    if m.kind in (SOLICIT, REQUEST, RENEW, REBIND):
        hardware = hardware_of(source, client or b"", scope.reservations, heard)
        address = scope.reservations.get(hardware) if hardware else None
        if m.kind == REBIND and address is None:
            return None
        said += [(_IA, _association(value, address)) for code, value in m.options if code == _IA and len(value) >= 12]
        # No prefixes are delegated; each request for one is answered so (section 18.3.9).
        none = struct.pack(">HHH", _STATUS, 2 + len(_WITHOUT), _NO_PREFIX) + _WITHOUT
        said += [(code, v[:4] + bytes(8) + none) for code, v in m.options if code == _PREFIXES and len(v) >= 12]
        rapid = m.kind == SOLICIT and m.first(_RAPID) is not None
        if rapid:
            said.append((_RAPID, b""))
        kind = ADVERTISE if m.kind == SOLICIT and not rapid else REPLY
        return Message(kind, m.transaction, (*said, *_parameters(scope)))
    if m.kind == CONFIRM:
        asked = [a for code, value in m.options if code == _IA for a in _addresses(value)]
        code = _OK if asked and all(a in scope.subnet for a in asked) else _OFF_LINK
        return Message(REPLY, m.transaction, (*said, (_STATUS, struct.pack(">H", code)))) if asked else None
    if m.kind in (RELEASE, DECLINE):
        return Message(REPLY, m.transaction, (*said, (_STATUS, struct.pack(">H", _OK))))
    return None


def _parameters(scope: Scope6) -> list[tuple[int, bytes]]:
    return [(_NAMES, b"".join(a.packed for a in scope.name_servers)), (_DOMAINS, encode_search([scope.domain]))]


def _addresses(association: bytes) -> list[IPv6Address]:
    options = decode_options(association, 12)
    return [IPv6Address(value[:16]) for code, value in options if code == _ADDRESS and len(value) >= 24]


def _association(asked: bytes, address: IPv6Address | None) -> bytes:
    """The answer to one identity association: the guest's address, and zero lifetimes for any other."""
    inner: list[tuple[int, bytes]] = []
    if address:
        inner.append((_ADDRESS, address.packed + struct.pack(">II", PREFERRED_S, VALID_S)))
    inner += [(_ADDRESS, a.packed + bytes(8)) for a in _addresses(asked) if a != address]
    if not address:
        inner.append((_STATUS, struct.pack(">H", _NONE) + b"this adapter has no address here"))
    return asked[:4] + struct.pack(">II", _T1, _T2) + encode_options(tuple(inner))
