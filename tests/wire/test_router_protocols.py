"""PCP and NAT-PMP: messages written by hand after the figures of RFC 6887 and RFC 6886, and any bytes."""

from __future__ import annotations

import contextlib
from ipaddress import IPv4Address
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from dacha.core.errors import PeerError
from dacha.wire.router import nat_pmp, pcp

NONCE = bytes(range(12))
V4 = "00000000000000000000ffff"
HOST, OUTSIDE = "c000020a", "cb007107"  # 192.0.2.10, 203.0.113.7
# RFC 6887 sections 7.1 and 11.1: version 2, MAP, two hours, from 192.0.2.10; TCP, inside 2210, outside 2210 wished.
ASKED = "02010000" + "00001c20" + V4 + HOST + NONCE.hex() + "06000000" + "08a208a2" + V4 + "00000000"
# The same, for another machine (section 13.1), and no other port will do (13.2).
FOR_ANOTHER = ASKED + "01000010" + V4 + "c0000214" + "02000000"
# Sections 7.2 and 11.1: granted for an hour, the server up for 258 s, outside 203.0.113.7:2211.
GRANTED = (
    "02810000" + "00000e10" + "00000102" + "0" * 24 + NONCE.hex() + "06000000" + "08a208a3" + V4 + OUTSIDE
)  # fmt: skip
ANNOUNCED = "02800000" + "00000000" + "00000007" + "0" * 24
# RFC 6886 section 3.3 and 3.2.
NAT_PMP = [
    ("0000", nat_pmp.Request(nat_pmp.OUTSIDE_ADDRESS)),
    ("0002000008a208a200001c20", nat_pmp.Request(nat_pmp.MAP_TCP, 2210, 2210, 7200)),
    ("0001000000350000" + "00000000", nat_pmp.Request(nat_pmp.MAP_UDP, 53, 0, 0)),
]
NAT_PMP_SAID = [
    ("008000000000010acb007107", nat_pmp.Response(0, 0, 266, IPv4Address("203.0.113.7"))),
    ("008200000000010a08a208a300000e10", nat_pmp.Response(2, 0, 266, None, 2210, 2211, 3600)),
]


def test_a_pcp_request_is_read_and_written_byte_for_byte() -> None:
    want = pcp.Request(IPv4Address("192.0.2.10"), 7200, pcp.Map(NONCE, pcp.TCP, 2210, 2210))
    assert pcp.encode_request(want).hex() == ASKED
    assert pcp.decode_request(bytes.fromhex(ASKED)) == want
    want = want._replace(third_party=IPv4Address("192.0.2.20"), prefer_failure=True)
    assert pcp.encode_request(want).hex() == FOR_ANOTHER
    assert pcp.decode_request(bytes.fromhex(FOR_ANOTHER)) == want


def test_a_pcp_answer_is_read_and_written_byte_for_byte() -> None:
    said = pcp.Response(0, 3600, 258, pcp.Map(NONCE, pcp.TCP, 2210, 2211, IPv4Address("203.0.113.7")))
    assert pcp.decode_response(bytes.fromhex(GRANTED)) == said
    assert pcp.encode_response(said).hex() == GRANTED
    assert pcp.decode_response(bytes.fromhex(ANNOUNCED)) == pcp.Response(0, 0, 7)


def test_a_server_of_the_older_protocol_is_told_from_a_broken_one() -> None:
    # RFC 6886 section 3.5: whoever knows NAT-PMP only answers version 2 so.
    assert pcp.decode_response(bytes.fromhex("0081000100000102")).result == pcp.UNSUPPORTED_VERSION


@pytest.mark.parametrize("whole, read", [(ASKED, pcp.decode_request), (GRANTED, pcp.decode_response)])
def test_pcp_cut_short_or_of_the_other_side_is_refused(whole: str, read: Any) -> None:
    data = bytes.fromhex(whole)
    for length in range(len(data)):
        with pytest.raises(PeerError):
            read(data[:length])
    other = pcp.decode_response if read is pcp.decode_request else pcp.decode_request
    with pytest.raises(PeerError):
        other(data)
    with pytest.raises(PeerError, match="opcode 9"):
        read(data[:1] + bytes([data[1] & 0x80 | 9]) + data[2:])


def test_an_option_that_must_be_understood_is_refused_and_another_skipped() -> None:
    optional = bytes.fromhex(ASKED + "90000004aabbccdd")
    assert pcp.decode_request(optional).map is not None
    for junk in ("7f000000", "010000ff00000000"):
        with pytest.raises(PeerError):
            pcp.decode_request(bytes.fromhex(ASKED + junk))


@pytest.mark.parametrize("text, request_", NAT_PMP)
def test_nat_pmp_requests(text: str, request_: nat_pmp.Request) -> None:
    assert nat_pmp.encode_request(request_).hex() == text
    assert nat_pmp.decode_request(bytes.fromhex(text)) == request_
    for wrong in (text[:-2], text + "00", "01" + text[2:], "0009" + text[4:]):
        with pytest.raises(PeerError):
            nat_pmp.decode_request(bytes.fromhex(wrong))


@pytest.mark.parametrize("text, said", NAT_PMP_SAID)
def test_nat_pmp_answers(text: str, said: nat_pmp.Response) -> None:
    assert nat_pmp.encode_response(said).hex() == text
    assert nat_pmp.decode_response(bytes.fromhex(text)) == said
    for wrong in (text[:-2], text + "00", "02" + text[2:]):
        with pytest.raises(PeerError):
            nat_pmp.decode_response(bytes.fromhex(wrong))
    refused = nat_pmp.decode_response(bytes.fromhex(text[:4] + "0002" + text[8:16]))
    assert refused == nat_pmp.Response(said.opcode, nat_pmp.NOT_AUTHORIZED, 266)


@given(st.binary(max_size=120))
def test_any_bytes_are_read_or_refused(data: bytes) -> None:
    for read in (pcp.decode_request, pcp.decode_response, nat_pmp.decode_request, nat_pmp.decode_response):
        with contextlib.suppress(PeerError):
            read(data)
