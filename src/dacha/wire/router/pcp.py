"""PCP (RFC 6887): port mappings in a router. Messages of both sides, as pure codecs.

IPv4 addresses are sent as IPv4-mapped IPv6 addresses (section 5), and are plain IPv4 addresses here.
"""

from __future__ import annotations

import struct
from ipaddress import IPv4Address, IPv6Address

from dacha.core.errors import PeerError
from dacha.core.named import NamedTuple

SERVER_PORT, CLIENT_PORT = 5351, 5350
VERSION = 2
ANNOUNCE, MAP = 0, 1
TCP, UDP = 6, 17
LONGEST = 1100
SUCCESS, UNSUPPORTED_VERSION, NOT_AUTHORIZED, MALFORMED, UNSUPPORTED_OPCODE, UNSUPPORTED_OPTION = 0, 1, 2, 3, 4, 5
NETWORK_FAILURE, NO_RESOURCES, UNSUPPORTED_PROTOCOL, QUOTA, CANNOT_PROVIDE, ADDRESS_MISMATCH = 7, 8, 9, 10, 11, 12
# Result codes and their descriptions (section 7.4).
RESULTS = {
    SUCCESS: "done", UNSUPPORTED_VERSION: "it uses another protocol version", NOT_AUTHORIZED: "it does not allow this",
    MALFORMED: "it did not understand the request", UNSUPPORTED_OPCODE: "it does not support port mappings",
    UNSUPPORTED_OPTION: "it supports mappings only for the requesting host",
    6: "it did not understand the request",
    NETWORK_FAILURE: "its internet connection is down", NO_RESOURCES: "it has no resources for more mappings",
    UNSUPPORTED_PROTOCOL: "it does not support this protocol", QUOTA: "this host has reached its limit of mappings",
    CANNOT_PROVIDE: "the outside port is not available", ADDRESS_MISMATCH: "there is another NAT between it and "
                                                                           "this host",
    13: "too many peers",
}  # fmt: skip
_THIRD_PARTY, _PREFER_FAILURE = 1, 2
_HEADER, _MAP = 24, 36
Address = IPv4Address | IPv6Address


class Map(NamedTuple):
    """A mapping (section 11.1). In a request, `external_port` and `external_address` are suggestions, 0 and the
    unspecified address for none; in a response they are assigned. `nonce` has 12 bytes."""

    nonce: bytes
    protocol: int
    internal_port: int
    external_port: int = 0
    external_address: Address = IPv4Address(0)


class Request(NamedTuple):
    """A MAP request, or with `map` None an ANNOUNCE, which only queries the server's state. `client` is the client's
    own address, `third_party` the owner of the mapping, if another; with `prefer_failure` only the suggested outside
    port is acceptable."""

    client: Address
    lifetime_s: int = 0
    map: Map | None = None
    third_party: Address | None = None
    prefer_failure: bool = False


class Response(NamedTuple):
    """The server's answer; `epoch_s` is since when it has kept its mappings (section 8.5), `lifetime_s` that of the
    mapping, or of the error."""

    result: int
    lifetime_s: int
    epoch_s: int
    map: Map | None = None


def _packed(address: Address) -> bytes:
    return address.packed if address.version == 6 else b"\0" * 10 + b"\xff\xff" + address.packed


def _address(data: bytes) -> Address:
    six = IPv6Address(data)
    return six.ipv4_mapped or six


def _encode_map(m: Map) -> bytes:
    head = struct.pack(">12sB3xHH", m.nonce, m.protocol, m.internal_port, m.external_port)
    return head + _packed(m.external_address)


def _decode_map(data: bytes) -> Map:
    nonce, protocol, internal, external, address = struct.unpack_from(">12sB3xHH16s", data, _HEADER)
    return Map(nonce, protocol, internal, external, _address(address))


def encode_request(r: Request) -> bytes:
    """The request as it is sent."""
    opcode = ANNOUNCE if r.map is None else MAP
    out = struct.pack(">BBxxI16s", VERSION, opcode, r.lifetime_s, _packed(r.client))
    if r.map:
        out += _encode_map(r.map)
    if r.third_party:
        out += struct.pack(">BxH", _THIRD_PARTY, 16) + _packed(r.third_party)
    if r.prefer_failure:
        out += struct.pack(">BxH", _PREFER_FAILURE, 0)
    return out


def decode_request(data: bytes) -> Request:
    """Read a request, as a server does. Raises PeerError for anything else."""
    opcode = _opcode(data, response=False)
    _, _, lifetime, client = struct.unpack_from(">BBxxI16s", data)
    third: Address | None = None
    prefer = False
    for code, value in _options(data, _HEADER + (_MAP if opcode == MAP else 0)):
        if code == _THIRD_PARTY and len(value) == 16:
            third = _address(value)
        elif code == _PREFER_FAILURE and not value:
            prefer = True
        elif code < 128:  # mandatory options (section 7.3)
            raise PeerError(f"PCP: unsupported option {code}")
    return Request(_address(client), lifetime, _decode_map(data) if opcode == MAP else None, third, prefer)


def encode_response(r: Response) -> bytes:
    """The answer as it is sent."""
    opcode = ANNOUNCE if r.map is None else MAP
    out = struct.pack(">BBxBII12x", VERSION, 0x80 | opcode, r.result, r.lifetime_s, r.epoch_s)
    return out + (_encode_map(r.map) if r.map else b"")


def decode_response(data: bytes) -> Response:
    """Read an answer. Raises PeerError for anything else; a message of another version, as servers without this one
    send, is read as the result UNSUPPORTED_VERSION (section 9)."""
    if len(data) >= 4 and data[0] != VERSION and data[1] & 0x80:
        return Response(UNSUPPORTED_VERSION, 0, 0)
    opcode = _opcode(data, response=True)
    result, lifetime, epoch = struct.unpack_from(">3xBII", data)
    return Response(result, lifetime, epoch, _decode_map(data) if opcode == MAP else None)


def _opcode(data: bytes, *, response: bool) -> int:
    """The opcode of a message of sufficient length."""
    if len(data) < _HEADER or len(data) > LONGEST or len(data) % 4:
        raise PeerError(f"PCP: invalid message length: {len(data)} bytes")
    if data[0] != VERSION:
        raise PeerError(f"PCP: unsupported version {data[0]}")
    if bool(data[1] & 0x80) is not response:
        raise PeerError(f"PCP: unexpected {'request' if response else 'response'}")
    opcode = data[1] & 0x7F
    if opcode not in (ANNOUNCE, MAP):
        raise PeerError(f"PCP: unsupported opcode {opcode}")
    if opcode == MAP and len(data) < _HEADER + _MAP:
        raise PeerError(f"PCP: truncated mapping: {len(data)} bytes")
    return opcode


def _options(data: bytes, at: int) -> list[tuple[int, bytes]]:
    """The options after a message (section 7.3): each padded to four bytes."""
    found = []
    while at < len(data):
        code, length = struct.unpack_from(">BxH", data, at)
        if at + 4 + length > len(data):
            raise PeerError(f"PCP: truncated option {code} at {at}")
        found.append((code, data[at + 4 : at + 4 + length]))
        at += 4 + length + -length % 4
    return found
