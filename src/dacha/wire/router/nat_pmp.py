"""NAT-PMP (RFC 6886): the older protocol for port mappings. Pure codecs."""

from __future__ import annotations

import struct
from ipaddress import IPv4Address

from dacha.core.errors import PeerError
from dacha.core.named import NamedTuple

VERSION = 0
OUTSIDE_ADDRESS, MAP_UDP, MAP_TCP = 0, 1, 2
SUCCESS, UNSUPPORTED_VERSION, NOT_AUTHORIZED, NETWORK_FAILURE, NO_RESOURCES, UNSUPPORTED_OPCODE = range(6)
# Result codes and their descriptions (section 3.5).
RESULTS = {
    SUCCESS: "done", UNSUPPORTED_VERSION: "it uses another protocol version", NOT_AUTHORIZED: "it does not allow this",
    NETWORK_FAILURE: "its internet connection is down", NO_RESOURCES: "it has no resources for more mappings",
    UNSUPPORTED_OPCODE: "it does not support port mappings",
}  # fmt: skip


class Request(NamedTuple):
    """`opcode` is OUTSIDE_ADDRESS, MAP_UDP or MAP_TCP (section 3.3); an `external_port` of 0 requests any port, a
    lifetime of 0 deletes the mapping."""

    opcode: int
    internal_port: int = 0
    external_port: int = 0
    lifetime_s: int = 0


class Response(NamedTuple):
    """The answer; `epoch_s` as in PCP (section 3.6). Only the fields of the request are set, and none on an error."""

    opcode: int
    result: int
    epoch_s: int
    address: IPv4Address | None = None
    internal_port: int = 0
    external_port: int = 0
    lifetime_s: int = 0


def encode_request(r: Request) -> bytes:
    """The request as it is sent."""
    if r.opcode == OUTSIDE_ADDRESS:
        return struct.pack(">BB", VERSION, r.opcode)
    return struct.pack(">BBxxHHI", VERSION, r.opcode, r.internal_port, r.external_port, r.lifetime_s)


def decode_request(data: bytes) -> Request:
    """Read a request, as a router does. Raises PeerError for anything else."""
    if len(data) < 2 or data[0] != VERSION or data[1] > MAP_TCP:
        raise PeerError("NAT-PMP: unsupported version or opcode")
    if data[1] == OUTSIDE_ADDRESS:
        if len(data) != 2:
            raise PeerError(f"NAT-PMP: invalid request length: {len(data)} bytes")
        return Request(OUTSIDE_ADDRESS)
    if len(data) != 12:
        raise PeerError(f"NAT-PMP: invalid mapping request length: {len(data)} bytes")
    opcode, internal, external, lifetime = struct.unpack(">xBxxHHI", data)
    return Request(opcode, internal, external, lifetime)


def encode_response(r: Response) -> bytes:
    """The answer as it is sent."""
    head = struct.pack(">BBHI", VERSION, 0x80 | r.opcode, r.result, r.epoch_s)
    if r.opcode == OUTSIDE_ADDRESS:
        return head + (r.address or IPv4Address(0)).packed
    return head + struct.pack(">HHI", r.internal_port, r.external_port, r.lifetime_s)


def decode_response(data: bytes) -> Response:
    """Read an answer. Raises PeerError for anything else."""
    if len(data) < 8 or data[0] != VERSION or not 0x80 <= data[1] <= 0x80 | MAP_TCP:
        raise PeerError("NAT-PMP: not a response")
    opcode, result, epoch = struct.unpack_from(">xBHI", data)
    opcode &= 0x7F
    if result != SUCCESS:
        return Response(opcode, result, epoch)  # an error may consist of its header only (section 3.5)
    if len(data) != (12 if opcode == OUTSIDE_ADDRESS else 16):
        raise PeerError(f"NAT-PMP: invalid response length: {len(data)} bytes")
    if opcode == OUTSIDE_ADDRESS:
        return Response(opcode, result, epoch, IPv4Address(data[8:12]))
    internal, external, lifetime = struct.unpack_from(">HHI", data, 8)
    return Response(opcode, result, epoch, None, internal, external, lifetime)
