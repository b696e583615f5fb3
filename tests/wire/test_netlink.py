"""What the kernel tells of changes, as recorded from it, and any bytes."""

from __future__ import annotations

import contextlib
import struct
import sys

import pytest
from hypothesis import given
from hypothesis import strategies as st

from dacha.core.errors import PeerError
from dacha.wire.link.netlink import LinkChange, OtherChange, TableChange, Transaction, link_events, rule_events


def attribute(kind: int, value: bytes) -> bytes:
    return struct.pack("=HH", 4 + len(value), kind) + value + bytes(-len(value) % 4)


def message(kind: int, payload: bytes) -> bytes:
    return struct.pack("=IHHII", 16 + len(payload), kind, 0, 1, 0) + payload


# NFT_MSG_DELTABLE and NFT_MSG_NEWGEN of one `nft flush ruleset`.
DELETED = message(10 << 8 | 2, b"\1\0\0\0" + attribute(1, b"dacha_siege\0") + attribute(2, bytes(4)))
GENERATION = message(
    10 << 8 | 15,
    b"\0\0\0\0" + attribute(1, b"\0\0\0\7") + attribute(2, (812).to_bytes(4, "big")) + attribute(3, b"nft\0"),
)


def test_a_transaction_names_its_tables_and_who_made_it() -> None:
    assert rule_events(DELETED + GENERATION) == [TableChange("dacha_siege"), Transaction(812, "nft")]


def test_links_are_named_and_all_else_is_told_without_contents() -> None:
    link = message(17, bytes(16) + attribute(3, b"d61c48b-pier\0") + attribute(10, (5).to_bytes(4, sys.byteorder)))
    assert link_events(link + message(36, bytes(20))) == [LinkChange("d61c48b-pier", 5), OtherChange()]
    five = (5).to_bytes(4, sys.byteorder)
    everywhere = attribute(1, (-1).to_bytes(4, sys.byteorder, signed=True))
    told = [
        message(20, bytes(4) + five),
        message(44, bytes(4) + five + bytes(12)),
        message(80, bytes(4) + attribute(1, five)),
    ]
    assert [e.link for e in link_events(b"".join(told)) if isinstance(e, OtherChange)] == [5, 5, 5]
    assert link_events(message(80, bytes(4) + everywhere) + message(32, bytes(12))) == [OtherChange(), OtherChange()]


@pytest.mark.parametrize("length", range(1, len(DELETED)))
def test_cut_short_it_is_refused(length: int) -> None:
    with pytest.raises(PeerError):
        rule_events(DELETED[:length])


@given(st.binary(max_size=200))
def test_any_bytes_are_read_or_refused(data: bytes) -> None:
    for read in (rule_events, link_events):
        with contextlib.suppress(PeerError):
            read(data)
