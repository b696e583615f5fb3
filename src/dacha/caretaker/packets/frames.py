"""Messages between the frame relay and the packet worker: received frames, and requests to send one.

The relay has the packet sockets. It sends only two kinds of frames and composes both itself, so that the worker, which
reads guests' data, cannot send others.
"""

from __future__ import annotations

import struct
from ipaddress import IPv4Address

from dacha.core.errors import PeerError
from dacha.core.named import NamedTuple

# The part of a frame that is passed on, and the maximum datagram (RFC 2131 section 2: 576 bytes, options may add).
MOST = 2048
_HEARD = struct.Struct(">cBHB")
_ADDRESS, _CLIENT = 4, 10


class Heard(NamedTuple):
    """A frame received on a link; `kind` is its direction (linux/if_packet.h), `ethertype` its type."""

    link: str
    kind: int
    ethertype: int
    data: bytes


class SendProbe(NamedTuple):
    """Send an ARP probe for an address on this network (RFC 5227 section 2.1.1)."""

    network: str
    address: IPv4Address


class SendReply(NamedTuple):
    """Send this DHCP message to the hardware address of a client without an IP address."""

    network: str
    hardware: bytes
    address: IPv4Address
    message: bytes


def heard(message: Heard) -> bytes:
    name = message.link.encode()
    return _HEARD.pack(b"F", message.kind, message.ethertype, len(name)) + name + message.data[:MOST]


def read_heard(data: bytes) -> Heard:
    """Raises PeerError."""
    if len(data) < _HEARD.size:
        raise PeerError("truncated message of the frame relay")
    what, kind, ethertype, length = _HEARD.unpack_from(data)
    end = _HEARD.size + length
    if what != b"F" or len(data) < end:
        raise PeerError("unexpected message of the frame relay")
    return Heard(data[_HEARD.size : end].decode(errors="replace"), kind, ethertype, data[end:])


def wanted(message: SendProbe | SendReply) -> bytes:
    name = message.network.encode()
    head = (b"A" if isinstance(message, SendProbe) else b"D") + bytes((len(name),)) + name
    if isinstance(message, SendProbe):
        return head + message.address.packed
    return head + message.hardware + message.address.packed + message.message


def read_wanted(data: bytes) -> SendProbe | SendReply:
    """Raises PeerError."""
    end = 2 + (data[1] if len(data) > 1 else 0)
    rest = data[end:]
    name = data[2:end].decode(errors="replace")
    if data[:1] == b"A" and len(rest) == _ADDRESS:
        return SendProbe(name, IPv4Address(rest))
    if data[:1] == b"D" and _CLIENT < len(rest) <= _CLIENT + MOST:
        return SendReply(name, rest[:6], IPv4Address(rest[6:_CLIENT]), rest[_CLIENT:])
    raise PeerError("unexpected message of the packet worker")
