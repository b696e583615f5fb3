"""The kernel's records of connections, listed and deleted by netlink (RFC 3549 section 2.3.2; Linux:
uapi/linux/netfilter/nfnetlink_conntrack.h)."""

from __future__ import annotations

import struct
from ipaddress import IPv4Address, IPv6Address

from dacha.core.named import NamedTuple
from dacha.wire.link.netlink import ACK, DONE, DUMP, ERROR, REQUEST, attributes, message, messages

# The subsystem's messages, with request flags: dump, and acknowledge.
_NEW, _GET, _DELETE = 1 << 8, 1 << 8 | 1, 1 << 8 | 2
_ORIGINAL, _REPLY, _ZONE = 1, 2, 18
_IP, _PROTOCOL = 1, 2
_NESTED = 0x8000
_PROTOCOLS = {6: "tcp", 17: "udp"}
Address = IPv4Address | IPv6Address


class Connection(NamedTuple):
    """A connection: its origin, its destination, and the machine that answers (another one if it is forwarded).
    `record` is the kernel's identification, for deleting it."""

    protocol: str
    source: Address
    to: Address
    to_port: int
    answers: Address
    answers_port: int
    record: bytes


def list_request() -> bytes:
    """Request all connections."""
    return _message(_GET, REQUEST | DUMP, 0, b"")


def delete_request(connection: Connection) -> bytes:
    """Request the deletion of a connection; its next packet then belongs to no connection."""
    return _message(_DELETE, REQUEST | ACK, 2 if connection.source.version == 4 else 10, connection.record)


def connections(data: bytes) -> tuple[list[Connection], bool]:
    """The connections in one datagram of the answer, and whether it was the last one. Raises PeerError."""
    found: list[Connection] = []
    for kind, payload in messages(data):
        if kind in (DONE, ERROR):
            return found, True
        if kind == _NEW and (connection := _connection(payload[4:])):
            found.append(connection)
    return found, False


def _connection(data: bytes) -> Connection | None:
    rows = attributes(data)
    original, reply = _tuple(rows.get(_ORIGINAL, b"")), _tuple(rows.get(_REPLY, b""))
    if original is None or reply is None:
        return None
    protocol, source, to, _, to_port = original
    record = _attribute(_ORIGINAL | _NESTED, rows[_ORIGINAL])
    if _ZONE in rows:
        record += _attribute(_ZONE, rows[_ZONE])
    return Connection(protocol, source, to, to_port, reply[1], reply[3], record)


def _tuple(data: bytes) -> tuple[str, Address, Address, int, int] | None:
    """Protocol, both addresses, both ports; None for protocols without ports."""
    rows = attributes(data)
    places, ports = attributes(rows.get(_IP, b"")), attributes(rows.get(_PROTOCOL, b""))
    protocol = _PROTOCOLS.get(ports.get(1, b"\0")[0])
    values = [places.get(n, b"") for n in ((1, 2) if 1 in places else (3, 4))]
    if protocol is None or {len(v) for v in values} not in ({4}, {16}):
        return None
    source, to = (IPv4Address(v) if len(v) == 4 else IPv6Address(v) for v in values)
    first, second = (int.from_bytes(ports.get(n, b""), "big") for n in (2, 3))
    return protocol, source, to, first, second


def _attribute(kind: int, value: bytes) -> bytes:
    return struct.pack("=HH", 4 + len(value), kind) + value + bytes(-len(value) % 4)


def _message(kind: int, flags: int, family: int, payload: bytes) -> bytes:
    return message(kind, flags, struct.pack("=BBH", family, 0, 0) + payload)
