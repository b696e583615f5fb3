"""Neighbour discovery: who has an IPv6 address."""

from __future__ import annotations

import contextlib
from ipaddress import IPv6Address

import pytest
from hypothesis import given
from hypothesis import strategies as st

from dacha.core.errors import PeerError
from dacha.wire.link.neighbour import Neighbour, decode_neighbour

# Written after the figures of RFC 4861 section 4: fd77:4::20 asks for fd77:4::1, which answers; and somebody
# checks that fd77:4::30 is free.
ASKED = "6000000000203afffd770004000000000000000000000020ff0200000000000000000001ff000001"
ASKED += "8700c1d200000000fd7700040000000000000000000000010101020000000020"
ANSWERED = "6000000000203afffd770004000000000000000000000001fd770004000000000000000000000020"
ANSWERED += "8800d1f0e0000000fd7700040000000000000000000000010201020000000001"
CHECKED = "6000000000183aff00000000000000000000000000000000ff0200000000000000000001ff000030"
CHECKED += "870010e700000000fd770004000000000000000000000030"


def read(text: str) -> Neighbour:
    return decode_neighbour(bytes.fromhex(text))


def test_who_has_an_address() -> None:
    assert read(ASKED).in_use() == IPv6Address("fd77:4::20")
    assert read(ANSWERED).in_use() == IPv6Address("fd77:4::1")
    assert read(CHECKED).in_use() is None, "asking whether an address is free is no use of it"


@pytest.mark.parametrize("change", [(7, 64), (6, 17), (0, 0x45), (40, 134), (41, 1)])
def test_what_is_something_else_is_refused(change: tuple[int, int]) -> None:
    packet = bytearray.fromhex(ASKED)
    packet[change[0]] = change[1]
    with pytest.raises(PeerError):
        decode_neighbour(bytes(packet))


def test_cut_anywhere_it_is_refused_or_whole() -> None:
    whole = bytes.fromhex(CHECKED)
    for length in range(len(whole)):
        with pytest.raises(PeerError):
            decode_neighbour(whole[:length])


@given(st.binary(max_size=100))
def test_any_bytes_are_read_or_refused(data: bytes) -> None:
    with contextlib.suppress(PeerError):
        decode_neighbour(data)
