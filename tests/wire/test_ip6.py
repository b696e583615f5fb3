"""DHCPv6 and router advertisements: who gets which address, and whatever bytes come."""

from __future__ import annotations

import contextlib
import struct
from ipaddress import IPv6Address, IPv6Network

import pytest
from hypothesis import given
from hypothesis import strategies as st

from dacha.core.errors import PeerError
from dacha.wire.dhcp import dhcp6
from dacha.wire.dhcp.dhcp6 import Message, Scope6, answer, decode, encode
from dacha.wire.link.router_advertisement import Advertisement
from dacha.wire.link.router_advertisement import encode as advertise

GAUGE, OWN = bytes.fromhex("020000000020"), bytes.fromhex("020000000001")
SERVER = dhcp6.identifier_of(OWN)
PLANNED, STRANGE = IPv6Address("fd77:4::20"), IPv6Address("fd77:4::99")
FROM_GAUGE = IPv6Address("fe80::ff:fe00:20")  # made of its hardware address, as an adapter without privacy makes it
SCOPE = Scope6(IPv6Network("fd77:4::/64"), SERVER, {GAUGE: PLANNED}, (IPv6Address("fd77:4::1"),), "real.internal")
DUID = b"\0\4" + bytes(16)  # a UUID says nothing of any adapter


def association(*addresses: IPv6Address) -> tuple[int, bytes]:
    inner = tuple((5, a.packed + struct.pack(">II", 1, 2)) for a in addresses)
    return 3, b"iaid" + bytes(8) + dhcp6.encode_options(inner)


def ask(
    kind: int,
    *options: tuple[int, bytes],
    source: IPv6Address = FROM_GAUGE,
    duid: bytes = DUID,
    heard: bytes | None = None,
) -> Message | None:
    message = Message(kind, b"abc", ((1, duid), *options))
    assert decode(encode(message)) == message
    return answer(SCOPE, message, source, heard)


def given_addresses(m: Message | None) -> dict[IPv6Address, int]:
    """Each address in an answer with its valid lifetime."""
    assert m is not None
    value = m.first(3)
    assert value is not None
    inner = dhcp6.decode_options(value, 12)
    return {IPv6Address(v[:16]): struct.unpack_from(">I", v, 20)[0] for code, v in inner if code == 5}


def test_a_guest_gets_its_planned_address_and_no_other() -> None:
    offer = ask(dhcp6.SOLICIT, association())
    assert offer and offer.kind == dhcp6.ADVERTISE and given_addresses(offer) == {PLANNED: dhcp6.VALID_S}
    assert offer.first(23) == IPv6Address("fd77:4::1").packed and offer.first(1) == DUID and offer.first(2) == SERVER
    mine = (2, SERVER)
    assert given_addresses(ask(dhcp6.REQUEST, mine, association(PLANNED))) == {PLANNED: dhcp6.VALID_S}
    # An address that it had from elsewhere comes to its end.
    assert given_addresses(ask(dhcp6.RENEW, mine, association(STRANGE))) == {PLANNED: dhcp6.VALID_S, STRANGE: 0}
    rapid = ask(dhcp6.SOLICIT, (14, b""), association())
    assert rapid and rapid.kind == dhcp6.REPLY and given_addresses(rapid) == {PLANNED: dhcp6.VALID_S}


def test_a_guest_is_known_by_its_link_local_address_or_its_identifier() -> None:
    private = IPv6Address("fe80::1234:5678:9abc:def0")
    for duid in (b"\0\3\0\1" + GAUGE, b"\0\1\0\1time" + GAUGE):
        assert given_addresses(ask(dhcp6.SOLICIT, association(), source=private, duid=duid)) == {PLANNED: dhcp6.VALID_S}
    stranger = ask(dhcp6.SOLICIT, association(), source=private)
    assert given_addresses(stranger) == {}
    assert ask(dhcp6.REBIND, association(PLANNED), source=private) is None
    # The adapter that was heard to use that address counts, whatever its system says of itself.
    assert given_addresses(ask(dhcp6.SOLICIT, association(), source=private, heard=GAUGE)) == {PLANNED: dhcp6.VALID_S}
    second = ask(dhcp6.SOLICIT, association(), source=private, duid=b"\0\1\0\1time" + GAUGE, heard=OWN)
    assert given_addresses(second) == {}, "a second adapter with the identifier of the first is not the first"


def test_who_asks_for_a_prefix_is_told_that_there_is_none() -> None:
    """RFC 8415 section 18.3.9: a status for each association, beside the address that it gets."""
    said = ask(dhcp6.SOLICIT, association(), (25, b"idpd" + bytes(8)))
    assert said and given_addresses(said) == {PLANNED: dhcp6.VALID_S}
    value = said.first(25)
    assert value and value[:4] == b"idpd" and dhcp6.decode_options(value, 12)[0][1][:2] == b"\0\6"


@pytest.mark.parametrize("kind", [dhcp6.REQUEST, dhcp6.RENEW, dhcp6.RELEASE, dhcp6.DECLINE])
def test_what_is_meant_for_another_server_is_left_to_it(kind: int) -> None:
    assert ask(kind, (2, b"other"), association(PLANNED)) is None
    assert ask(kind, association(PLANNED)) is None
    assert ask(kind, (2, SERVER), association(PLANNED)) is not None


def test_confirm_says_whether_the_link_is_the_right_one() -> None:
    for address, status in ((PLANNED, 0), (IPv6Address("2001:db8::1"), 4)):
        reply = ask(dhcp6.CONFIRM, association(address))
        assert reply and reply.first(13) == status.to_bytes(2, "big")
    assert ask(dhcp6.CONFIRM, association()) is None


def test_information_is_for_everybody() -> None:
    reply = answer(SCOPE, Message(dhcp6.INFORMATION, b"abc", ()), FROM_GAUGE)
    assert reply and reply.kind == dhcp6.REPLY and reply.first(24) == b"\4real\x08internal\0" and reply.first(3) is None


@given(st.binary(max_size=200), st.integers(1, 12))
def test_any_bytes_are_answered_or_refused(data: bytes, kind: int) -> None:
    for packet in (data, bytes((kind,)) + b"abc" + dhcp6.encode_options(((1, DUID), association(PLANNED))) + data):
        with contextlib.suppress(PeerError):
            answer(SCOPE, decode(packet), FROM_GAUGE)


def test_an_advertisement_is_whole_and_says_what_is_meant() -> None:
    said = Advertisement(IPv6Network("fd77:4::/64"), True, (IPv6Address("fd77:4::1"),), "real.internal", OWN)
    wire = advertise(said)
    assert wire[0] == 134 and wire[5] == 0xC0 and struct.unpack_from(">H", wire, 6)[0] == 1800
    assert struct.unpack_from(">H", advertise(said._replace(router=False)), 6)[0] == 0
    at, found = 16, {}
    while at < len(wire):
        found[wire[at]] = wire[at : at + wire[at + 1] * 8]
        at += wire[at + 1] * 8
    assert at == len(wire) and found.keys() == {1, 3, 25, 31}
    assert found[3][2] == 64 and found[3][3] == 0x80 and found[3][16:] == IPv6Address("fd77:4::").packed
