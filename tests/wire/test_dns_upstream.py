"""Which answers of other name servers are believed, and which are passed on."""

from __future__ import annotations

import dns.message
import dns.rcode
import dns.rrset
import pytest
from hypothesis import given
from hypothesis import strategies as st

from dacha.wire.dns.upstream import (
    asked_anew,
    believed,
    believed_but_case,
    failed,
    for_asker,
    key_of,
    leads_inside,
    question_of,
)

QUERY = dns.message.make_query("www.Example.org", "A", id=7).to_wire()


def answer(name: str, *addresses: str, kind: str = "A") -> bytes:
    made = dns.message.make_response(dns.message.make_query(name, kind))
    made.answer.append(dns.rrset.from_text_list(name + ".", 60, "IN", kind, addresses))
    return made.to_wire()


def reply(asked: bytes) -> bytes:
    return dns.message.make_response(dns.message.from_wire(asked)).to_wire()


@given(st.integers(0, (1 << 64) - 1))
def test_an_answer_is_believed_letter_by_letter(dice: int) -> None:
    asked = asked_anew(QUERY, b"\x12\x34", dice)
    assert asked is not None and asked[:2] == b"\x12\x34" and key_of(asked) == key_of(QUERY)
    # The library would make all letters alike; a server repeats the question as it is.
    said = asked[:2] + bytes((asked[2] | 0x80,)) + asked[3:]
    assert believed(asked, said)
    assert for_asker(QUERY, said)[:2] == QUERY[:2] and question_of(for_asker(QUERY, said)) == question_of(QUERY)
    for forged in (
        b"\x12\x35" + said[2:], said[:2] + bytes((said[2] & 0x7F,)) + said[3:],
        said[:13] + bytes((said[13] ^ 0x20,)) + said[14:],
        said.replace(b"\0\1\0\1", b"\0\x1c\0\1"), said[:11], b"",
    ):  # fmt: skip
        assert not believed(asked, forged)
    # A server that writes names in lower case repeats all but that.
    lowered = said[:12] + said[12:].lower()
    assert believed_but_case(asked, lowered) and not believed_but_case(asked, b"\x12\x35" + lowered[2:])
    assert not believed_but_case(asked, lowered.replace(b"www", b"wwx"))


@pytest.mark.parametrize(("code", "other"), [("SERVFAIL", True), ("REFUSED", True), ("NXDOMAIN", False)])
def test_another_server_is_asked_where_one_could_not_tell(code: str, other: bool) -> None:
    made = dns.message.make_response(dns.message.from_wire(QUERY))
    made.set_rcode(dns.rcode.from_text(code))
    assert failed(made.to_wire()) is other


def test_two_askers_of_one_question_share_it_whatever_their_number_and_case() -> None:
    other = dns.message.make_query("WWW.example.ORG", "A", id=99).to_wire()
    assert key_of(QUERY) == key_of(other) != key_of(dns.message.make_query("www.example.org", "AAAA").to_wire())


@pytest.mark.parametrize(
    ("name", "kind", "address", "inside"),
    [
        ("www.example.org", "A", "198.51.100.7", False), ("www.example.org", "A", "192.168.1.1", True),
        ("www.example.org", "A", "127.0.0.1", True), ("www.example.org", "A", "10.77.4.1", True),
        ("www.example.org", "A", "100.64.0.1", True), ("www.example.org", "A", "169.254.169.254", True),
        ("www.example.org", "A", "0.0.0.0", True), ("www.example.org", "AAAA", "fd77:4::1", True),
        ("www.example.org", "AAAA", "fe80::1", True), ("www.example.org", "AAAA", "::1", True),
        ("www.example.org", "AAAA", "::ffff:10.0.0.1", True), ("www.example.org", "AAAA", "2001:db8::7", False),
        ("printer.lan", "A", "192.168.1.9", False), ("nas.home.arpa", "A", "192.168.1.9", False),
        ("printer", "A", "192.168.1.9", True), ("www.example.org", "AAAA", "64:ff9b::c0a8:101", True),
        ("www.example.org", "AAAA", "64:ff9b::c633:6407", False), ("www.example.org", "AAAA", "64:ff9b:1::1", True),
        ("www.example.org", "AAAA", "2002:c0a8:101::1", True),
        ("www.example.org", "HTTPS", "1 . alpn=h2 ipv4hint=192.168.1.1", True),
        ("www.example.org", "HTTPS", "1 . ipv4hint=198.51.100.7 ipv6hint=fd77::1", True),
        ("_x._tcp.example.org", "SVCB", "1 . ipv6hint=::1", True),
        ("www.example.org", "HTTPS", "1 . alpn=h2 ipv4hint=198.51.100.7", False),
    ],
)  # fmt: skip
def test_a_name_of_the_internet_leads_nobody_inside(name: str, kind: str, address: str, inside: bool) -> None:
    assert leads_inside(answer(name, address, kind=kind)) is inside


@given(st.binary(max_size=600), st.binary(max_size=600))
def test_any_bytes_are_read_or_refused(query: bytes, said: bytes) -> None:
    asked = asked_anew(query, b"ab", 5)
    assert asked is None or len(asked) == len(query)
    believed(query, said)
    leads_inside(said)
    key_of(query)
