"""A cache of other name servers' answers, for their lifetime (RFC 1035 section 7.4, RFC 2308 section 5)."""

from __future__ import annotations

from collections import OrderedDict

import dns.exception
import dns.flags
import dns.message
import dns.rcode
import dns.rdatatype
from dns.message import Message

from dacha.core.named import NamedTuple
from dacha.wire.dns.zone import fit

# The least recently used answer is removed first; the limits bound memory, and how long a wrong answer can stay.
MOST = 5_000
LONGEST_S, NEGATIVE_S = 3600.0, 300.0

Key = tuple[str, int, int, bool, bool]


class Kept(NamedTuple):
    answer: Message
    since: float
    until: float


def key_of(asked: Message) -> Key | None:
    """The identity of a question: name, type, class, and the requested DNSSEC flags."""
    if len(asked.question) != 1:
        return None
    q = asked.question[0]
    want = bool(asked.ednsflags & dns.flags.DO), bool(asked.flags & dns.flags.CD)
    return (q.name.to_text().lower(), int(q.rdtype), int(q.rdclass), *want)


def _has_what_was_asked(answer: Message, kind: int) -> bool:
    """True if the answer has a record of the requested type, not only CNAMEs."""
    return any(r.rdtype == kind or kind == dns.rdatatype.ANY for r in answer.answer)


class Cache:
    """Answers by question. Time is seconds, monotonic."""

    def __init__(self) -> None:
        self._kept: OrderedDict[Key, Kept] = OrderedDict()

    def __len__(self) -> int:
        return len(self._kept)

    def find(self, query: bytes, now: float, *, udp: bool) -> bytes | None:
        """The stored answer for this query, with reduced lifetimes; None if there is none."""
        try:
            asked = dns.message.from_wire(query, ignore_trailing=True)
        except (dns.exception.DNSException, ValueError):
            return None
        key = key_of(asked)
        kept = self._kept.get(key) if key else None
        if key is None or kept is None:
            return None
        if kept.until <= now:
            del self._kept[key]
            return None
        self._kept.move_to_end(key)
        answer = dns.message.make_response(asked, recursion_available=True)
        answer.flags |= kept.answer.flags & dns.flags.AD
        answer.set_rcode(kept.answer.rcode())
        age = int(now - kept.since)
        for mine, theirs in zip(
            (answer.answer, answer.authority, answer.additional),
            (kept.answer.answer, kept.answer.authority, kept.answer.additional),
            strict=True,
        ):
            for rrset in theirs:
                copy = rrset.copy()  # type: ignore[no-untyped-call]
                copy.ttl = max(0, rrset.ttl - age)
                mine.append(copy)
        return fit(answer, asked, udp)

    def keep(self, query: bytes, wire: bytes, now: float) -> None:
        """Store another server's answer, unless it failed, is truncated, or does not match the question."""
        try:
            asked = dns.message.from_wire(query, ignore_trailing=True)
            answer = dns.message.from_wire(wire, ignore_trailing=True)
        except (dns.exception.DNSException, ValueError):
            return
        key = key_of(asked)
        if key is None or answer.flags & dns.flags.TC or [q.name for q in answer.question] != [asked.question[0].name]:
            return
        if answer.rcode() not in (dns.rcode.NOERROR, dns.rcode.NXDOMAIN):
            return
        ttls = [r.ttl for section in (answer.answer, answer.authority) for r in section]
        if answer.rcode() == dns.rcode.NOERROR and _has_what_was_asked(answer, asked.question[0].rdtype):
            most = LONGEST_S
        else:
            most = NEGATIVE_S
            # A negative answer is stored only if the zone says for how long (RFC 2308 section 5).
            soas = [min(r.ttl, r[0].minimum) for r in answer.authority if r.rdtype == dns.rdatatype.SOA]
            ttls = [*soas, *(r.ttl for r in answer.answer)] if soas else []
        life = min([*ttls, most]) if ttls else 0
        if life <= 0:
            return
        self._kept[key] = Kept(answer, now, now + life)
        self._kept.move_to_end(key)
        while len(self._kept) > MOST:
            self._kept.popitem(last=False)
