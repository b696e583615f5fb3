"""Records and messages of multicast DNS (RFC 6762, RFC 6763), read and written."""

from __future__ import annotations

import struct
from collections.abc import Iterable

import dns.exception
import dns.name

from dacha.core.errors import PeerError
from dacha.core.named import NamedTuple
from dacha.core.reach.lan_names import LanName

A, PTR, TXT, AAAA, SRV, NSEC, ANY = 1, 12, 16, 28, 33, 47, 255
IN = 1
# The top bit of a class: in a record, older ones of that name and type are flushed; in a question, the answer may be
# sent to the asking address alone (RFC 6762 sections 10.2 and 5.4).
_TOP = 0x8000
# Lifetimes of records with a host's name in them, and of others (RFC 6762 section 10).
HOST_TTL_S, OTHER_TTL_S = 120, 4500
# More than this is in no message for us: what comes after is not read.
MOST = 256
_HEADER, _QUESTION, _RECORD = struct.Struct(">6H"), struct.Struct(">HH"), struct.Struct(">HHIH")
_RESPONSE = 0x8400  # an authoritative response (RFC 6762 section 18)
Name = dns.name.Name


class Record(NamedTuple):
    """A resource record; `unique` if no other responder may have records of this name and type."""

    name: Name
    kind: int
    data: bytes
    ttl: int
    unique: bool


class Question(NamedTuple):
    """A question; `alone` if the answer may be sent to the asking address alone."""

    name: Name
    kind: int
    alone: bool


class Message(NamedTuple):
    """A message: what is asked, what is answered (known answers, in a query), and what a prober proposes."""

    number: int
    response: bool
    questions: tuple[Question, ...]
    answers: tuple[Record, ...]
    proposed: tuple[Record, ...]


def host_name(name: str) -> Name:
    return dns.name.Name([name.encode(), b"local", b""])


def _wire(name: Name) -> bytes:
    """A name as in a message, without compression (RFC 1035 section 3.1)."""
    return name.to_wire() or b""


def records(names: Iterable[LanName]) -> list[Record]:
    """The records of these names: address, services with their ports, and what leads to them (RFC 6763 section 4)."""
    found: dict[tuple[Name, int, bytes], Record] = {}
    every = dns.name.from_text("_services._dns-sd._udp.local.")
    for guest in names:
        host = host_name(guest.name)
        mine = [Record(host, A, guest.address.packed, HOST_TTL_S, True)]
        for service in guest.services:
            kind = dns.name.from_text(f"{service.kind}.local.")
            own = dns.name.Name([service.name.encode()[:63], *kind.labels])
            mine += [
                Record(kind, PTR, _wire(own), OTHER_TTL_S, False),
                Record(every, PTR, _wire(kind), OTHER_TTL_S, False),
                Record(own, SRV, struct.pack(">HHH", 0, 0, service.port) + _wire(host), HOST_TTL_S, True),
                Record(own, TXT, b"\0", OTHER_TTL_S, True),
            ]
        found |= {(r.name, r.kind, r.data): r for r in mine}
    return list(found.values())


def nothing_else(name: Name, kinds: Iterable[int]) -> Record:
    """A record that says which types a unique name has (RFC 6762 section 6.1)."""
    bits = bytearray(32)
    for kind in kinds:
        bits[kind // 8] |= 0x80 >> kind % 8
    block = bytes(bits).rstrip(b"\0")
    return Record(name, NSEC, _wire(name) + bytes((0, len(block))) + block, HOST_TTL_S, True)


def encode(
    *, questions: Iterable[Question] = (), answers: Iterable[Record] = (), more: Iterable[Record] = (),
    proposed: Iterable[Record] = (), number: int = 0, response: bool = True, plain: bool = False,
) -> bytes:  # fmt: skip
    """A message. With `plain` it is for a resolver that knows nothing of multicast: short lifetimes, no top bits (RFC
    6762 section 6.7)."""
    asked, said, authority, extra = list(questions), list(answers), list(proposed), list(more)
    counts = len(asked), len(said), len(authority), len(extra)
    parts = [_HEADER.pack(number, _RESPONSE if response else 0, *counts)]
    for q in asked:
        parts += [_wire(q.name), _QUESTION.pack(q.kind, IN | (_TOP if q.alone and not plain else 0))]
    for group in (said, authority, extra):
        for r in group:
            top = _TOP if r.unique and not plain and group is not authority else 0
            ttl = min(r.ttl, 10) if plain else r.ttl
            parts += [_wire(r.name), _RECORD.pack(r.kind, IN | top, ttl, len(r.data)), r.data]
    return b"".join(parts)


def decode(data: bytes) -> Message:
    """Read a message; records of other classes are left out. Names in the data of PTR and SRV records are written out.
    Raises PeerError."""
    try:
        number, flags, asked, said, proposed, _ = _HEADER.unpack_from(data)
        at, questions = _HEADER.size, []
        for _ in range(min(asked, MOST)):
            name, used = dns.name.from_wire(data, at)
            kind, klass = _QUESTION.unpack_from(data, at + used)
            at += used + _QUESTION.size
            if klass & ~_TOP in (IN, ANY):
                questions.append(Question(name, kind, bool(klass & _TOP)))
        answers, at = _records(data, at, min(said, MOST))
        authority, at = _records(data, at, min(proposed, MOST))
    except (struct.error, dns.exception.DNSException, IndexError, ValueError) as e:
        raise PeerError("malformed message of multicast DNS", why=str(e)) from None
    if flags & 0x7800 or flags & 0x000F:
        raise PeerError("message of multicast DNS with another operation code, or an error")
    return Message(number, bool(flags & 0x8000), tuple(questions), tuple(answers), tuple(authority))


def _records(data: bytes, at: int, count: int) -> tuple[list[Record], int]:
    found = []
    for _ in range(count):
        name, used = dns.name.from_wire(data, at)
        kind, klass, ttl, length = _RECORD.unpack_from(data, at + used)
        begin = at + used + _RECORD.size
        at = begin + length
        if at > len(data):
            raise ValueError("a record is longer than the message")
        if klass & ~_TOP == IN:
            found.append(Record(name, kind, _data(data, kind, begin, at), ttl, bool(klass & _TOP)))
    return found, at


def _data(data: bytes, kind: int, begin: int, end: int) -> bytes:
    """A record's data, without compression of the name in it."""
    fixed = {PTR: 0, SRV: 6}.get(kind)
    if fixed is None:
        return data[begin:end]
    name, used = dns.name.from_wire(data, begin + fixed)
    if begin + fixed + used != end:
        raise ValueError("a name ends elsewhere than its record")
    return data[begin : begin + fixed] + _wire(name)
