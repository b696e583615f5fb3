"""Multicast DNS: names are claimed, announced, answered for and given up, in simulated time."""

from __future__ import annotations

import contextlib
from ipaddress import IPv4Address, IPv4Network

import dns.name
import pytest
from hypothesis import given
from hypothesis import strategies as st

from dacha.core.errors import PeerError
from dacha.core.reach.lan_names import LanName, LanService
from dacha.wire.dns.multicast import PORT, Responder, Send
from dacha.wire.dns.multicast_records import (
    ANY,
    NSEC,
    PTR,
    SRV,
    TXT,
    A,
    Question,
    Record,
    decode,
    encode,
    host_name,
    records,
)

HOST, LAN = IPv4Address("192.0.2.10"), IPv4Network("192.0.2.0/24")
GAUGE = LanName("gauge", HOST, (LanService("_ssh._tcp", "gauge", 2220),))
SSH = dns.name.from_text("_ssh._tcp.local.")
OTHER = ("192.0.2.50", PORT)


def responder(*names: LanName) -> Responder:
    return Responder(records(names or (GAUGE,)), LAN, 0.0, 0.1)


def run(made: Responder, until: float) -> list[tuple[float, Send]]:
    """Everything that it sends by itself until then."""
    sent = []
    while (due := made.due()) is not None and due <= until:
        sent += [(due, send) for send in made.wake(due)]
    return sent


def held(*names: LanName) -> Responder:
    made = responder(*names)
    run(made, 5.0)
    return made


def ask(made: Responder, *questions: Question, at: float = 10.0, source: tuple[str, int] = OTHER,
        known: tuple[Record, ...] = ()) -> list[Send]:  # fmt: skip
    return made.heed(encode(questions=questions, answers=known, response=False), source, at)


def kinds(send: Send) -> list[int]:
    return [r.kind for r in decode(send.data).answers]


def test_a_name_is_probed_three_times_and_announced_twice() -> None:
    sent = run(responder(), 10.0)
    messages = [(round(at, 2), decode(send.data)) for at, send in sent]
    assert [at for at, _ in messages] == [0.1, 0.35, 0.6, 0.85, 1.85]
    for _, probe in messages[:3]:
        assert not probe.response and {q.kind for q in probe.questions} == {ANY} and probe.questions[0].alone
        assert {r.kind for r in probe.proposed} == {A, SRV, TXT} and not any(r.unique for r in probe.proposed)
    for _, said in messages[3:]:
        address = next(r for r in said.answers if r.kind == A)
        assert said.response and address.data == HOST.packed and address.unique and address.ttl == 120
        assert not next(r for r in said.answers if r.kind == PTR).unique
    assert all(send.to is None for _, send in sent)


def test_questions_are_answered_as_they_are_asked() -> None:
    made = held()
    (said,) = ask(made, Question(host_name("gauge"), A, False))
    assert said.to is None and kinds(said) == [A]
    # Not again within a second; to one that asks alone, or that knows nothing of multicast, at once.
    assert ask(made, Question(host_name("gauge"), A, False), at=10.5) == []
    (alone,) = ask(made, Question(host_name("GAUGE"), A, True), at=10.6)
    assert alone.to == OTHER
    plain = made.heed(encode(questions=[Question(host_name("gauge"), A, False)], number=77, response=False),
                      ("192.0.2.50", 40000), 10.7)  # fmt: skip
    message = decode(plain[0].data)
    assert plain[0].to == ("192.0.2.50", 40000) and message.number == 77 and message.questions
    assert message.answers[0].ttl == 10 and not message.answers[0].unique
    # A type that it does not have; a name that it does not have.
    (none,) = ask(made, Question(host_name("gauge"), 28, False), at=12.0)
    assert kinds(none) == [NSEC]
    assert ask(made, Question(host_name("heron"), A, False), at=12.0) == []


def test_a_service_leads_to_its_port_and_address() -> None:
    (said,) = ask(held(), Question(SSH, PTR, False))
    assert kinds(said) == [PTR]
    whole = said.data
    assert b"\x05gauge" in whole and (2220).to_bytes(2, "big") in whole and HOST.packed in whole
    known = next(r for r in records([GAUGE]) if r.kind == PTR and r.name == SSH)
    assert ask(held(), Question(SSH, PTR, False), known=(known,)) == []


def test_another_machine_keeps_its_name() -> None:
    theirs = Record(host_name("gauge"), A, IPv4Address("192.0.2.77").packed, 120, True)
    made = responder()
    run(made, 0.4)
    made.heed(encode(answers=[theirs]), OTHER, 0.4)
    assert made.taken == ["gauge.local"]
    assert all(not {A, SRV, TXT} & set(kinds(send)) for _, send in run(made, 10.0))
    assert ask(made, Question(SSH, PTR, False)) == []
    assert ask(made, Question(host_name("gauge"), A, True)) == []
    # It is tried again two minutes later.
    assert any(decode(s.data).proposed for _, s in run(made, 130.0))
    # One that was held is asked for first: the other one may be gone.
    made = held()
    made.heed(encode(answers=[theirs]), OTHER, 20.0)
    assert made.taken == [] and not decode(run(made, 20.1)[0][1].data).response
    made.heed(encode(answers=[theirs]), OTHER, 20.2)
    assert made.taken == ["gauge.local"]


def test_of_two_that_claim_a_name_at_the_same_time_one_yields() -> None:
    lesser, greater = responder(), responder(GAUGE._replace(address=IPv4Address("192.0.2.200")))
    for n in range(40):
        now = n * 0.05
        for one, two in ((lesser, greater), (greater, lesser)):
            for _, send in run(one, now):
                two.heed(send.data, OTHER, now)
    assert "gauge.local" in lesser.taken and greater.taken == []


def test_its_own_messages_and_strangers_change_nothing() -> None:
    made = held()
    for _, send in run(responder(), 5.0):
        made.heed(send.data, ("192.0.2.10", PORT), 30.0)
    assert made.taken == [] and made.due() is None
    theirs = Record(host_name("gauge"), A, b"\x01\x02\x03\x04", 120, True)
    made.heed(encode(answers=[theirs]), ("203.0.113.5", PORT), 30.0)
    assert made.due() is None
    goodbye = decode(made.goodbye()[0].data)
    assert {r.ttl for r in goodbye.answers} == {0} and len(goodbye.answers) == len(records([GAUGE]))


def test_many_names_are_spread_over_messages_that_fit() -> None:
    names = [LanName(f"guest-{n}", HOST, (LanService("_ssh._tcp", f"guest-{n}", 2000 + n),)) for n in range(60)]
    for _, send in run(responder(*names), 5.0):
        assert len(send.data) < 9000


def test_an_answer_to_one_machine_is_no_longer_than_a_message_may_be() -> None:
    names = [f"{n:02d}{'x' * 60}" for n in range(90)]
    made = held(*[LanName(name, HOST, (LanService("_ssh._tcp", name, 2000),)) for name in names])
    alone = ask(made, Question(SSH, PTR, True))
    assert {s.to for s in alone} == {OTHER} and sum(len(kinds(s)) for s in alone) == 90
    assert all(len(s.data) < 9000 for s in alone)
    # Each message has the addresses of its own services' hosts.
    assert all(s.data.count(HOST.packed) == len(kinds(s)) for s in alone)
    (plain,) = ask(made, Question(SSH, PTR, False), source=("192.0.2.50", 40000))
    assert len(plain.data) < 9000 and kinds(plain)


@given(st.binary(max_size=600))
def test_any_bytes_are_read_or_refused(data: bytes) -> None:
    with contextlib.suppress(PeerError):
        decode(data)
    held().heed(data, OTHER, 1.0)


@given(st.integers(0, 400), st.integers(0, 255))
def test_a_damaged_message_is_read_or_refused(at: int, value: int) -> None:
    data = bytearray(encode(answers=records([GAUGE]), questions=[Question(SSH, PTR, True)]))
    data[at % len(data)] = value
    held().heed(bytes(data), OTHER, 1.0)
    with pytest.raises(PeerError):
        decode(bytes(data[:11]))
