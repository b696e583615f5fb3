"""A responder of multicast DNS (RFC 6762): it claims names on a link, announces them, answers, and gives way."""

from __future__ import annotations

from collections.abc import Collection, Iterable
from enum import IntEnum
from ipaddress import IPv4Address, IPv4Network
from typing import TypeVar

from dacha.core.errors import PeerError
from dacha.core.named import NamedTuple
from dacha.wire.dns.multicast_records import (
    ANY,
    NSEC,
    PTR,
    SRV,
    Message,
    Name,
    Question,
    Record,
    decode,
    encode,
    nothing_else,
)

T = TypeVar("T")
GROUP, PORT = IPv4Address("224.0.0.251"), 5353
# Probes and announcements: their number, and the time between them (RFC 6762 sections 8.1 and 8.3, seconds).
PROBES, PROBE_S, ANNOUNCEMENTS, ANNOUNCE_S = 3, 0.25, 2, 1.0
# After a simultaneous claim that was lost (section 8.2), and after a name was found in use (seconds).
YIELD_S, TAKEN_S = 1.0, 120.0
# A record is not sent to the group more often than this (section 6, seconds).
OFTEN_S = 1.0
# Messages have room for so many records of names as long as these.
BATCH = 12
# A message is no longer than this (RFC 6762 section 17, bytes with the headers of IP and UDP).
LONGEST = 9000 - 60 - 8


class Stage(IntEnum):
    """How far the claim to a name is."""

    PROBING = 0
    ANNOUNCING = PROBES
    HELD = PROBES + ANNOUNCEMENTS
    TAKEN = 99


class Send(NamedTuple):
    """A message to send, to an address and port, or (`to` None) to the group."""

    data: bytes
    to: tuple[str, int] | None = None


class Claim:
    """The claim to one name: its stage, and when the next one is due (seconds, monotonic)."""

    def __init__(self, at: float) -> None:
        self.stage: int = Stage.PROBING
        self.at = at

    @property
    def held(self) -> bool:
        """True once the name was announced."""
        return Stage.ANNOUNCING < self.stage < Stage.TAKEN


class Responder:
    """Has these records on one link, in the subnet of which others are listened to."""

    def __init__(self, records: Iterable[Record], subnet: IPv4Network, now: float, delay_s: float) -> None:
        """`delay_s` is a random time below PROBE_S before the first probe: hosts that start together spread out."""
        self._records, self._subnet = list(records), subnet
        self._by_name: dict[Name, list[Record]] = {}
        for record in self._records:
            self._by_name.setdefault(record.name, []).append(record)
        # The same names as they are in the data of records.
        self._in_data = {name.to_wire() or b"": name for name in self._by_name}
        self._claims = {r.name: Claim(now + delay_s) for r in self._records if r.unique}
        self._sent: dict[tuple[Name, int, bytes], float] = {}
        # Names that another machine was found to use since the last look.
        self.taken: list[str] = []

    def due(self) -> float | None:
        """When `wake` has something to do."""
        waiting = [c.at for c in self._claims.values() if c.stage != Stage.HELD]
        return min(waiting, default=None)

    def wake(self, now: float) -> list[Send]:
        """Do what is due: probe, announce, try again."""
        probing, announcing = [], []
        for name, claim in self._claims.items():
            if claim.stage == Stage.HELD or claim.at > now:
                continue
            if claim.stage == Stage.TAKEN:
                claim.stage = Stage.PROBING
            if claim.stage < PROBES:
                probing.append(name)
                claim.at = now + PROBE_S
            else:
                announcing.append(name)
                claim.at = now + ANNOUNCE_S
            claim.stage += 1
        sends = []
        for names in _batches(probing):
            asked = [Question(name, ANY, True) for name in names]
            mine = [r for name in names for r in self._of(name)]
            sends.append(Send(encode(questions=asked, proposed=mine, response=False)))
        if announcing:
            sends += self._to_group([r for r in self._records if self._usable(r)], now, always=True, more=False)
        return sends

    def goodbye(self) -> list[Send]:
        """What takes everything back that was announced (section 10.1)."""
        gone = [r._replace(ttl=0) for r in self._records if self._usable(r)]
        return [Send(encode(answers=part)) for part in _batches(gone)]

    def heed(self, data: bytes, source: tuple[str, int], now: float) -> list[Send]:
        """Take a message from the link."""
        try:
            if IPv4Address(source[0]) not in self._subnet:
                return []
            message = decode(data)
        except (PeerError, ValueError):
            return []
        if message.response:
            self._heed_answers(message.answers, now)
            return []
        self._heed_probe(message, now)
        return self._answer(message, source, now)

    def _of(self, name: Name) -> list[Record]:
        return self._by_name.get(name, [])

    def _target(self, record: Record) -> Name | None:
        """The name of this responder that a record leads to: a service behind a pointer, or the host of a service."""
        start = {PTR: 0, SRV: 6}.get(record.kind)
        return None if start is None else self._in_data.get(record.data[start:])

    def _held(self, name: Name) -> bool:
        """True if a name has been announced, and that of the host where its service is."""
        hosts = [self._target(r) for r in self._of(name) if r.kind == SRV]
        return all(self._claims[n].held for n in (name, *hosts) if n in self._claims)

    def _usable(self, record: Record) -> bool:
        """True if all names in a record have been claimed and announced."""
        names = (record.name, self._target(record) if record.kind == PTR else None)
        return all(self._held(n) for n in names if n in self._claims)

    def _heed_answers(self, answers: Iterable[Record], now: float) -> None:
        """Another one has a unique name of ours with something else in it: it keeps the name (section 9)."""
        for answer in answers:
            claim = self._claims.get(answer.name)
            mine = [r for r in self._of(answer.name) if r.kind == answer.kind]
            if claim is None or claim.stage == Stage.TAKEN or not mine or answer.ttl == 0:
                continue
            if all(r.data != answer.data for r in mine):
                if claim.stage >= PROBES:
                    claim.stage, claim.at = Stage.PROBING, now  # it may be a remnant: it is asked for
                else:
                    claim.stage, claim.at = Stage.TAKEN, now + TAKEN_S
                    self.taken.append(str(answer.name).rstrip("."))

    def _heed_probe(self, message: Message, now: float) -> None:
        """Another one claims a name at the same time: the greater records win (section 8.2)."""
        for name in {r.name for r in message.proposed}:
            claim = self._claims.get(name)
            if claim is None or claim.stage >= PROBES:
                continue
            theirs = sorted((r.kind, r.data) for r in message.proposed if r.name == name)
            if sorted((r.kind, r.data) for r in self._of(name)) < theirs:
                claim.stage, claim.at = Stage.PROBING, now + YIELD_S

    def _answer(self, message: Message, source: tuple[str, int], now: float) -> list[Send]:
        known = {(r.name, r.kind, r.data) for r in message.answers if not message.response}
        found = dict.fromkeys(r for q in dict.fromkeys(message.questions) for r in self._answers(q))
        answers = [r for r in found if (r.name, r.kind, r.data) not in known]
        if not answers:
            return []
        if source[1] != PORT:
            return [Send(self._plain(message, answers), source)]
        if all(q.alone for q in message.questions):
            return [Send(data, source) for data in self._messages(answers)]
        return self._to_group(answers, now, always=bool(message.proposed))

    def _plain(self, message: Message, answers: list[Record]) -> bytes:
        """The one message that a resolver without multicast reads: with as much as there is room for."""
        more = self._led_to(answers)
        while True:
            said = encode(questions=message.questions, answers=answers, more=more, number=message.number, plain=True)
            if len(said) <= LONGEST or not answers:
                return said
            if more:
                more = more[: len(more) // 2]
            else:
                answers = answers[: len(answers) // 2]

    def _messages(self, answers: list[Record], *, more: bool = True) -> list[bytes]:
        """Messages with these answers, each (with `more`) also with what its own answers lead to."""
        return [encode(answers=part, more=self._led_to(part) if more else ()) for part in _batches(answers)]

    def _answers(self, question: Question) -> list[Record]:
        mine = [r for r in self._of(question.name) if self._usable(r)]
        found = [r for r in mine if question.kind in (r.kind, ANY)]
        if found or not mine or not mine[0].unique or question.kind == NSEC:
            return found
        return [nothing_else(question.name, [r.kind for r in mine])]

    def _led_to(self, answers: Collection[Record]) -> list[Record]:
        """What a client asks for next: the service behind a pointer, the host of a service (RFC 6763 section 12)."""
        found: list[Record] = []
        for record in answers:
            target = self._target(record)
            led = [r for r in self._of(target) if self._usable(r)] if target else []
            found += [*led, *(self._led_to(led) if record.kind == PTR else ())]
        said = set(answers)
        return [r for r in dict.fromkeys(found) if r not in said]

    def _to_group(self, answers: list[Record], now: float, *, always: bool, more: bool = True) -> list[Send]:
        fresh = [r for r in answers if always or now - self._sent.get((r.name, r.kind, r.data), -OFTEN_S) >= OFTEN_S]
        for r in fresh:
            self._sent[r.name, r.kind, r.data] = now
        return [Send(data) for data in self._messages(fresh, more=more)]


def _batches(items: list[T]) -> list[list[T]]:
    return [items[n : n + BATCH] for n in range(0, len(items), BATCH)]
