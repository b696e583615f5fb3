"""Kernel notifications about changes of rules and links: netlink messages, read only (RFC 3549 section 2.3.2; Linux:
uapi/linux/netlink.h, netfilter/nf_tables.h, rtnetlink.h)."""

from __future__ import annotations

import struct
import sys
from collections.abc import Iterator

from dacha.core.errors import PeerError
from dacha.core.named import NamedTuple

# nlmsghdr: length, type, flags, sequence, sender; then the payload, padded to four bytes.
_HEADER = struct.Struct("=IHHII")
_ATTRIBUTE = struct.Struct("=HH")
# NLM_F_REQUEST, ACK and DUMP; NLMSG_DONE and NLMSG_ERROR.
REQUEST, ACK, DUMP, DONE, ERROR = 1, 4, 0x300, 3, 2
# The subsystem of nf_tables in a message's type, and the message that ends a transaction (NFT_MSG_NEWGEN).
_NF_TABLES, _NEWGEN = 10, 15
_NFGENMSG, _IFINFOMSG = 4, 16  # bytes before the attributes
# RTM_NEWLINK and RTM_DELLINK; other messages of rtnetlink are reported without their contents.
_LINKS = (16, 17)
_NFTA_TABLE, _IFLA_IFNAME, _IFLA_MASTER = 1, 3, 10
# RTM_NEWADDR and on, RTM_NEWQDISC to RTM_GETTFILTER, RTM_NEWNETCONF and on: ifaddrmsg and tcmsg have the link's number
# in their second word, netconfmsg in an attribute (below 0: of all links).
_ADDRESSES, _FILTERS, _NETCONF, _NETCONFA_IFINDEX = (20, 21), range(36, 47), (80, 81, 82), 1
_NFTA_GEN_PROC_PID, _NFTA_GEN_PROC_NAME = 2, 3


class TableChange(NamedTuple):
    """A part of a table was added, replaced or removed."""

    table: str


class Transaction(NamedTuple):
    """The changes since the last one belong to one transaction of this process."""

    pid: int
    program: str


class LinkChange(NamedTuple):
    """A link was added, changed or removed; `master` is the interface index of its bridge, 0 for none."""

    name: str
    master: int = 0


class OtherChange(NamedTuple):
    """Another setting was changed: an address, a filter, a policy rule, forwarding of an interface. `link` is the index
    of its link, 0 for a setting of the whole host."""

    link: int = 0


Event = TableChange | Transaction | LinkChange | OtherChange


def message(kind: int, flags: int, body: bytes) -> bytes:
    """A message with its header, as the only pending request of this process."""
    return _HEADER.pack(_HEADER.size + len(body), kind, flags, 1, 0) + body


def messages(data: bytes) -> Iterator[tuple[int, bytes]]:
    """The messages of a datagram, each with its type and payload. Raises PeerError."""
    at = 0
    while at < len(data):
        if len(data) - at < _HEADER.size:
            raise PeerError(f"truncated netlink message at byte {at}")
        length, kind, *_ = _HEADER.unpack_from(data, at)
        if not _HEADER.size <= length <= len(data) - at:
            raise PeerError(f"netlink message at byte {at}: invalid length {length}")
        yield kind, data[at + _HEADER.size : at + length]
        at += (length + 3) & ~3


def attributes(data: bytes) -> dict[int, bytes]:
    """The attributes by type, without the flags in it (NLA_F_NESTED, NLA_F_NET_BYTEORDER). Raises PeerError."""
    return {kind & 0x3FFF: value for kind, value in raw_attributes(data)}


def raw_attributes(data: bytes) -> Iterator[tuple[int, bytes]]:
    """The attributes in order, each with its raw type. Raises PeerError."""
    at = 0
    while at + _ATTRIBUTE.size <= len(data):
        length, kind = _ATTRIBUTE.unpack_from(data, at)
        if not _ATTRIBUTE.size <= length <= len(data) - at:
            raise PeerError(f"netlink attribute at byte {at}: invalid length {length}")
        yield kind, data[at + _ATTRIBUTE.size : at + length]
        at += (length + 3) & ~3


def text(value: bytes | None) -> str:
    """A text from the kernel, without the NUL at its end; "" for None."""
    value = value or b""
    return value.partition(b"\0")[0].decode(errors="replace")


def rule_events(data: bytes) -> list[Event]:
    """The events in one datagram of the nftables group, in order. Raises PeerError."""
    events: list[Event] = []
    for kind, payload in messages(data):
        if kind >> 8 != _NF_TABLES:
            continue
        found = attributes(payload[_NFGENMSG:])
        if kind & 0xFF == _NEWGEN:
            pid = int.from_bytes(found.get(_NFTA_GEN_PROC_PID, b"\0"), "big")
            events.append(Transaction(pid, text(found.get(_NFTA_GEN_PROC_NAME, b""))))
        else:
            events.append(TableChange(text(found.get(_NFTA_TABLE, b""))))
    return events


def link_events(data: bytes) -> list[Event]:
    """The events in one datagram of rtnetlink. Raises PeerError."""
    events: list[Event] = []
    for kind, payload in messages(data):
        if kind in _LINKS:
            found = attributes(payload[_IFINFOMSG:])
            master = int.from_bytes(found.get(_IFLA_MASTER, b"\0"), sys.byteorder)
            events.append(LinkChange(text(found.get(_IFLA_IFNAME, b"")), master))
        else:
            events.append(OtherChange(_link_of(kind, payload)))
    return events


def _link_of(kind: int, payload: bytes) -> int:
    """The index of the link that a setting belongs to."""
    if kind in _ADDRESSES or kind in _FILTERS:
        return int.from_bytes(payload[4:8], sys.byteorder)
    if kind in _NETCONF:
        value = attributes(payload[4:]).get(_NETCONFA_IFINDEX, b"")
        return max(0, int.from_bytes(value, sys.byteorder, signed=True))
    return 0
