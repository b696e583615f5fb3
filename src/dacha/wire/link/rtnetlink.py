"""The state of a link of this host (addresses, routes, neighbours, policy rules) as kernel messages: stored unchanged,
and sent again for the same link or its replacement (rtnetlink(7); Linux: uapi/linux/rtnetlink.h, if_addr.h,
neighbour.h, fib_rules.h). A whole message keeps every attribute, also unknown ones."""

from __future__ import annotations

import struct
import sys
from collections.abc import Iterable, Iterator
from enum import IntEnum

from dacha.core.named import NamedTuple
from dacha.wire.link.netlink import ACK, DUMP, REQUEST, message, raw_attributes, text

_REPLACE, _EXCLUSIVE, _CREATE = 0x100, 0x200, 0x400
INET, INET6 = 2, 10
# The numbers of "delete" and "get" follow that of "new".
_DELETE, _GET = 1, 2
_FOREVER = 0xFFFFFFFF
# ifa_flags: IPv6 calls the first one temporary. Of the others, only these may be set by a caller.
_TEMPORARY, _NODAD, _GIVEN = 0x01, 0x02, 0x02 | 0x10 | 0x100 | 0x200 | 0x400
_LINK_SCOPE = 253
_IFA_LABEL, _IFA_CACHEINFO, _IFA_FLAGS = 3, 6, 8
_RTA_DST, _RTA_OIF, _RTA_PRIORITY, _RTA_MULTIPATH, _RTA_CACHEINFO, _RTA_TABLE = 1, 4, 6, 9, 12, 15
_RTA_EXPIRES, _RTA_NH_ID = 23, 30
_BY_KERNEL, _BY_REDIRECT, _LOCAL_TABLE, _CLONED = 2, 1, 255, 0x200
# RTNH_F_PERVASIVE and ONLINK; the other flags describe a next hop's state.
_ON_LINK, _HOP_FLAGS = 4, 2 | 4
_PERMANENT, _PROXY = 0x80, 0x08
_FRA_IIFNAME, _FRA_OIFNAME, _FRA_PAD = 3, 17, 18
_TICKS = 100  # USER_HZ: the unit of the remaining lifetime of a route.


class Kind(IntEnum):
    """What a message is about; the value is the type of the message that adds one (RTM_NEWADDR, …)."""

    ADDRESS = 20
    ROUTE = 24
    NEIGHBOUR = 28
    RULE = 32


# Bytes before the attributes: ifaddrmsg, rtmsg, ndmsg, fib_rule_hdr.
_FIXED = {Kind.ADDRESS: 8, Kind.ROUTE: 12, Kind.NEIGHBOUR: 12, Kind.RULE: 12}


class Part(NamedTuple):
    """One address, route, neighbour or policy rule: a message without its header."""

    kind: Kind
    body: bytes

    @property
    def family(self) -> int:
        """AF_INET or AF_INET6."""
        return self.body[0]

    def attributes(self) -> list[tuple[int, bytes]]:
        """Its attributes in order. Raises PeerError."""
        return list(raw_attributes(self.body[_FIXED[self.kind] :]))

    def attribute(self, kind: int) -> bytes | None:
        """The first attribute of this type; None if there is none."""
        return next((value for k, value in self.attributes() if k == kind), None)

    def with_attributes(self, attributes: Iterable[tuple[int, bytes]]) -> Part:
        """The same with other attributes."""
        packed = b"".join(
            struct.pack("=HH", 4 + len(value), kind) + value + bytes(-len(value) % 4) for kind, value in attributes
        )
        return self._replace(body=self.body[: _FIXED[self.kind]] + packed)


def list_request(kind: Kind, family: int, *, proxies: bool = False) -> bytes:
    """Request all of a kind; `proxies` for the neighbours that this host answers for."""
    fixed = bytearray(_FIXED[kind])
    fixed[0] = family
    if proxies:
        fixed[10] = _PROXY
    return message(kind + _GET, REQUEST | DUMP, bytes(fixed))


def add_request(part: Part) -> bytes:
    """Create it, or replace it. An existing policy rule would be duplicated; IPv6 routes that differ only in their next
    hop are separate routes."""
    replaces = part.kind in (Kind.ADDRESS, Kind.NEIGHBOUR) or (part.kind is Kind.ROUTE and part.family == INET)
    how = _EXCLUSIVE if part.kind is Kind.RULE else _REPLACE if replaces else 0
    return message(part.kind, REQUEST | ACK | _CREATE | how, part.body)


def remove_request(part: Part) -> bytes:
    """Remove it."""
    return message(part.kind + _DELETE, REQUEST | ACK, part.body)


def error_of(body: bytes) -> int:
    """The errno of an answer; 0 for "done"."""
    return -int.from_bytes(body[:4], sys.byteorder, signed=True)


def belongs(part: Part, index: int, name: str) -> bool:
    """True for state that was configured on a link, as opposed to what the kernel derives from it."""
    match part.kind:
        case Kind.ADDRESS:
            there = struct.unpack_from("=I", part.body, 4)[0] == index
            return there and not (part.family == INET6 and _flags(part) & _TEMPORARY)
        case Kind.ROUTE:
            return index in _links(part) and not _made_by_kernel(part)
        case Kind.NEIGHBOUR:
            _, there, state, flags, _ = struct.unpack_from("=IiHBB", part.body)
            return there == index and part.family in (INET, INET6) and bool(state & _PERMANENT or flags & _PROXY)
        case Kind.RULE:
            return any(text(part.attribute(k)) == name for k in (_FRA_IIFNAME, _FRA_OIFNAME))


def prefix_route(part: Part, index: int) -> bool:
    """True for a route that the kernel created with an address of the link, in other tables than its own."""
    if part.kind is not Kind.ROUTE or index not in _links(part) or part.body[4] == _LOCAL_TABLE:
        return False
    return part.body[5] == _BY_KERNEL and not _route_flags(part) & _CLONED


def route_key(part: Part) -> tuple[bytes, ...]:
    """The destination, table and metric of a prefix route, which together identify it on its link."""
    return part.body[:5], *(part.attribute(k) or b"" for k in (_RTA_DST, _RTA_TABLE, _RTA_PRIORITY))


def own_of_link(part: Part) -> bool:
    """True for an address that a link always has by itself: link-local ones of IPv6."""
    return part.kind is Kind.ADDRESS and part.family == INET6 and part.body[3] == _LINK_SCOPE


def same_address(part: Part) -> tuple[bytes, ...]:
    """The identity of an address, including its visible properties."""
    kept = {k: v for k, v in part.attributes() if k not in (_IFA_CACHEINFO, _IFA_FLAGS, _IFA_LABEL)}
    return part.body[:2], part.body[3:4], *(v for _, v in sorted(kept.items()))


def led_to(part: Part, old: tuple[int, str], new: tuple[int, str], age_s: float) -> Part:
    """The same for another link (index, name) in place of the old one, `age_s` seconds later."""
    match part.kind:
        case Kind.ADDRESS:
            return _address(part, old[1], new, int(age_s))
        case Kind.ROUTE:
            return _route(part, old[0], new[0], age_s)
        case Kind.NEIGHBOUR:
            return part._replace(body=part.body[:4] + struct.pack("=i", new[0]) + part.body[8:])
        case Kind.RULE:
            names = (_FRA_IIFNAME, _FRA_OIFNAME)
            return part.with_attributes(
                (k, new[1].encode() + b"\0" if k in names and text(v) == old[1] else v)
                for k, v in part.attributes() if k != _FRA_PAD
            )  # fmt: skip


def undoubted(part: Part) -> Part:
    """The same address without duplicate address detection (RFC 4862 section 5.4)."""
    return part.with_attributes(
        (k, struct.pack("=I", _flags(part) | _NODAD) if k == _IFA_FLAGS else v) for k, v in part.attributes()
    )


def on_link(part: Part) -> Part:
    """The same route with its gateway declared on-link, although no subnet of the link contains it (RTNH_F_ONLINK)."""
    return part._replace(body=part.body[:8] + struct.pack("=I", _route_flags(part) | _ON_LINK) + part.body[12:])


def in_order(parts: Iterable[Part]) -> list[Part]:
    """Routes in an order in which they can be created: those that others depend on first."""

    def narrow(part: Part) -> tuple[int, bool]:
        # Wider scopes have smaller numbers; RTA_GATEWAY, RTA_VIA, RTA_MULTIPATH.
        return -part.body[6], any(k in (5, 18, _RTA_MULTIPATH) for k, _ in part.attributes())

    return sorted(parts, key=narrow)


def _address(part: Part, old: str, new: tuple[int, str], age: int) -> Part:
    flags = _flags(part) & _GIVEN
    found: list[tuple[int, bytes]] = []
    for kind, value in part.attributes():
        if kind == _IFA_LABEL:
            label = text(value)
            value = (new[1] + label[len(old) :])[:15].encode() + b"\0" if label.startswith(old) else value
        elif kind == _IFA_CACHEINFO:
            lives = (n if n == _FOREVER else max(n - age, 0) for n in struct.unpack_from("=II", value))
            preferred, valid = lives
            value = struct.pack("=II", preferred, max(valid, 1)) + value[8:]
        if kind != _IFA_FLAGS:
            found.append((kind, value))
    found.append((_IFA_FLAGS, struct.pack("=I", flags)))
    body = part.body[:2] + bytes((flags & 0xFF,)) + part.body[3:4] + struct.pack("=I", new[0]) + part.body[8:]
    return Part(part.kind, body).with_attributes(found)


def _route(part: Part, old: int, new: int, age_s: float) -> Part:
    found: list[tuple[int, bytes]] = []
    for kind, value in part.attributes():
        if kind == _RTA_OIF and struct.unpack("=I", value)[0] == old:
            value = struct.pack("=I", new)
        elif kind == _RTA_MULTIPATH:
            value = b"".join(_hop(hop, old, new) for hop in _hops(value))
        elif kind == _RTA_CACHEINFO:
            left = struct.unpack_from("=IIi", value)[2]
            if left > 0:
                found.append((_RTA_EXPIRES, struct.pack("=I", max(1, left // _TICKS - int(age_s)))))
            continue
        # A next-hop object is also written out beside its ID; the kernel does not accept both.
        if kind != _RTA_NH_ID:
            found.append((kind, value))
    flags = struct.pack("=I", _route_flags(part) & _HOP_FLAGS)
    return Part(part.kind, part.body[:8] + flags + part.body[12:]).with_attributes(found)


def _hops(value: bytes) -> Iterator[bytes]:
    at = 0
    while at + 8 <= len(value):
        length = struct.unpack_from("=H", value, at)[0]
        if length < 8:
            return
        yield value[at : at + length]
        at += (length + 3) & ~3


def _hop(hop: bytes, old: int, new: int) -> bytes:
    length, flags, hops, index = struct.unpack_from("=HBBI", hop)
    led = struct.pack("=HBBI", length, flags & _HOP_FLAGS, hops, new if index == old else index)
    return led + hop[8:] + bytes(-len(hop) % 4)


def _links(part: Part) -> set[int]:
    found = set()
    for kind, value in part.attributes():
        if kind == _RTA_OIF:
            found.add(struct.unpack("=I", value)[0])
        elif kind == _RTA_MULTIPATH:
            found |= {struct.unpack_from("=I", hop, 4)[0] for hop in _hops(value)}
    return found


def _made_by_kernel(part: Part) -> bool:
    return part.body[5] in (_BY_KERNEL, _BY_REDIRECT) or bool(_route_flags(part) & _CLONED)


def _route_flags(part: Part) -> int:
    return int(struct.unpack_from("=I", part.body, 8)[0])


def _flags(part: Part) -> int:
    value = part.attribute(_IFA_FLAGS)
    return int(struct.unpack("=I", value)[0]) if value else part.body[2]
