"""DHCP messages for IPv4: the codec (RFC 2131 section 2, options by RFC 2132)."""

from __future__ import annotations

import struct
from collections.abc import Iterable
from enum import IntEnum
from ipaddress import IPv4Address, IPv4Network

from dacha.core.errors import PeerError
from dacha.core.named import NamedTuple

SERVER_PORT, CLIENT_PORT = 67, 68
MAGIC = b"\x63\x82\x53\x63"
_FIXED = struct.Struct(">BBBBIHH4s4s4s4s16s64s128s")
# Relays and old clients may drop shorter messages (RFC 1542 section 2.1).
_LEAST = 300
BROADCAST_FLAG = 0x8000


class Kind(IntEnum):
    """Message types (RFC 2132 section 9.6)."""

    DISCOVER = 1
    OFFER = 2
    REQUEST = 3
    DECLINE = 4
    ACK = 5
    NAK = 6
    RELEASE = 7
    INFORM = 8


class Option(IntEnum):
    """The options that Dacha reads or writes, from RFC 2132 unless noted."""

    SUBNET_MASK = 1
    ROUTER = 3
    NAME_SERVER = 6
    HOST_NAME = 12
    DOMAIN_NAME = 15
    INTERFACE_MTU = 26
    BROADCAST = 28
    NTP = 42
    REQUESTED_ADDRESS = 50
    LEASE_TIME = 51
    OVERLOAD = 52
    KIND = 53
    SERVER = 54
    WANTED = 55
    MESSAGE = 56
    RENEWAL_TIME = 58
    REBINDING_TIME = 59
    CLASS = 60
    CLIENT = 61
    TFTP_SERVER = 66
    BOOT_FILE = 67
    RELAY_INFORMATION = 82  # RFC 3046
    ARCHITECTURE = 93  # RFC 4578
    SEARCH = 119  # RFC 3397
    CLASSLESS_ROUTES = 121  # RFC 3442


class Message(NamedTuple):
    """One message; fields have the RFC's names. `options` maps a code to its bytes."""

    op: int
    xid: int
    chaddr: bytes
    options: dict[int, bytes]
    htype: int = 1
    hops: int = 0
    secs: int = 0
    flags: int = 0
    ciaddr: bytes = b"\0\0\0\0"
    yiaddr: bytes = b"\0\0\0\0"
    siaddr: bytes = b"\0\0\0\0"
    giaddr: bytes = b"\0\0\0\0"
    sname: bytes = b""
    file: bytes = b""

    @property
    def kind(self) -> int:
        """The message's type; 0 if the option is missing or wrong (BOOTP clients)."""
        raw = self.options.get(Option.KIND, b"")
        return raw[0] if len(raw) == 1 else 0

    def address(self, option: int) -> IPv4Address | None:
        raw = self.options.get(option, b"")
        return IPv4Address(raw) if len(raw) == 4 else None

    @property
    def client(self) -> bytes:
        """The client's identity for the server: its identifier, else type and hardware address (RFC 2131 section 2)."""
        return self.options.get(Option.CLIENT) or bytes((self.htype,)) + self.chaddr


def decode(data: bytes) -> Message:
    """Read one message. Raises PeerError with the offset and the invalid field."""
    if len(data) < _FIXED.size + 4:
        raise PeerError(f"truncated DHCP message: {len(data)} bytes (at least {_FIXED.size + 4})")
    fields = _FIXED.unpack_from(data)
    op, htype, hlen, hops, xid, secs, flags, ciaddr, yiaddr, siaddr, giaddr, chaddr, sname, file = fields
    if op not in (1, 2):
        raise PeerError(f"DHCP: op at 0 is {op}, not 1 or 2")
    if hlen > 16:
        raise PeerError(f"DHCP: hlen at 2 is {hlen}, more than 16")
    if data[_FIXED.size : _FIXED.size + 4] != MAGIC:
        raise PeerError(f"DHCP: no magic cookie at {_FIXED.size} (BOOTP without options)")
    options: dict[int, bytes] = {}
    _read_options(data, _FIXED.size + 4, len(data), options)
    overload = options.get(Option.OVERLOAD, b"\0")[:1]
    # The file field is read before the sname field (RFC 2131 section 4.1).
    if overload in (b"\1", b"\3"):
        _read_options(data, 108, 236, options)
        file = b""
    if overload in (b"\2", b"\3"):
        _read_options(data, 44, 108, options)
        sname = b""
    return Message(
        op, xid, chaddr[:hlen], options, htype, hops, secs, flags, ciaddr, yiaddr, siaddr, giaddr,
        sname.rstrip(b"\0"), file.rstrip(b"\0"),
    )  # fmt: skip


def _read_options(data: bytes, at: int, end: int, options: dict[int, bytes]) -> None:
    """Read options between two offsets; a repeated option continues the former one (RFC 3396 section 7)."""
    while at < end:
        code = data[at]
        at += 1
        if code == 0:
            continue
        if code == 255:
            return
        if at >= end or at + 1 + data[at] > end:
            raise PeerError(f"DHCP: truncated option {code} at {at - 1}")
        length = data[at]
        piece = data[at + 1 : at + 1 + length]
        options[code] = options[code] + piece if code in options else piece
        at += 1 + length


def encode(m: Message) -> bytes:
    """Write one message; long options are written in pieces of 255 bytes (RFC 3396 section 6)."""
    parts = [
        _FIXED.pack(
            m.op, m.htype, len(m.chaddr), m.hops, m.xid, m.secs, m.flags, m.ciaddr, m.yiaddr, m.siaddr, m.giaddr,
            m.chaddr, m.sname, m.file,
        ),
        MAGIC,
    ]  # fmt: skip
    for code, value in m.options.items():
        for n in range(0, max(1, len(value)), 255):
            piece = value[n : n + 255]
            parts.append(bytes((code, len(piece))) + piece)
    parts.append(b"\xff")
    return b"".join(parts).ljust(_LEAST, b"\0")


def encode_routes(routes: Iterable[tuple[IPv4Network, IPv4Address]]) -> bytes:
    """Classless routes: prefix length, significant octets, and router of each (RFC 3442)."""
    out = b""
    for net, router in routes:
        out += bytes((net.prefixlen,)) + net.network_address.packed[: (net.prefixlen + 7) // 8] + router.packed
    return out


def encode_search(domains: Iterable[str]) -> bytes:
    """A list of domains in DNS form, without compression (RFC 3397 section 2)."""
    return b"".join(
        b"".join(bytes((len(label),)) + label.encode() for label in domain.split(".")) + b"\0" for domain in domains
    )
