"""ARP and the datagram to a client without an address."""

from __future__ import annotations

import contextlib
import struct
from ipaddress import IPv4Address

from hypothesis import given
from hypothesis import strategies as st

from dacha.core.errors import PeerError
from dacha.wire.link.ethernet import arp_probe, checksum, decode_arp, encode_arp, udp4


def test_arp_is_the_same_after_writing_and_reading() -> None:
    probe = arp_probe(b"\2\0\0\0\0\1", IPv4Address("10.77.4.20"))
    wire = encode_arp(probe)
    assert decode_arp(wire + bytes(18)) == probe  # short frames are padded
    for length in range(len(wire)):
        with contextlib.suppress(PeerError):
            raise AssertionError(decode_arp(wire[:length]))


@given(st.binary(max_size=80))
def test_any_bytes_are_an_arp_packet_or_refused(data: bytes) -> None:
    with contextlib.suppress(PeerError):
        assert encode_arp(decode_arp(data)) == data[:28]


@given(st.binary(max_size=301))
def test_a_datagram_adds_up(payload: bytes) -> None:
    packet = udp4(IPv4Address("10.77.4.1"), 67, IPv4Address("10.77.4.20"), 68, payload)
    assert checksum(packet[:20]) == 0 and struct.unpack_from(">H", packet, 2)[0] == len(packet)
    pseudo = packet[12:20] + struct.pack(">BBH", 0, 17, len(packet) - 20)
    assert checksum(pseudo + packet[20:]) == 0 and packet[28:] == payload
