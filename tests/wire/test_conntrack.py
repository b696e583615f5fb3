"""The kernel's records of connections, as one kernel told them: one of IPv6, one that is led to another port."""

from __future__ import annotations

import contextlib
from ipaddress import IPv4Address, IPv6Address
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from dacha.core.errors import PeerError
from dacha.wire.link.conntrack import Connection, connections, delete_request, list_request

RECORDED = bytes.fromhex(Path(__file__).with_name("conntrack_dump.hex").read_text())


def test_each_connection_says_who_answers_it() -> None:
    found, last = connections(RECORDED)
    six, led = found
    here, there = IPv6Address("fd00::1"), IPv4Address("10.0.0.1")
    assert last and six[:6] == ("tcp", here, here, 23, here, 23)
    assert led[:6] == ("tcp", there, there, 2220, there, 22)


def test_a_request_names_the_record_as_the_kernel_told_it() -> None:
    (_, led), _ = connections(RECORDED)
    assert list_request()[4:6] == b"\x01\x01" and led.record in RECORDED
    # What is deleted reads as the same record: the original tuple, in a message of the subsystem's delete.
    request = delete_request(led)
    assert request[4:6] == b"\x02\x01" and request.endswith(led.record) and request[16] == 2


@pytest.mark.parametrize("length", range(1, 400, 7))
def test_cut_short_it_is_refused(length: int) -> None:
    with contextlib.suppress(PeerError):
        assert not connections(RECORDED[:length])[1]


@given(st.binary(max_size=300))
def test_any_bytes_are_read_or_refused(data: bytes) -> None:
    with contextlib.suppress(PeerError):
        assert all(isinstance(c, Connection) for c in connections(data)[0])
