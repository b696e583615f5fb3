"""Frames that ordinary sockets do not send or receive: ARP (RFC 826, RFC 5227), and UDP to a client without an
address."""

from __future__ import annotations

import struct
from ipaddress import IPv4Address

from dacha.core.errors import PeerError
from dacha.core.named import NamedTuple

ETHERTYPE_IPV4, ETHERTYPE_ARP = 0x0800, 0x0806
EVERYBODY = b"\xff" * 6
ETHERNET_HEADER = 14  # bytes: two addresses and the type
_ARP = struct.Struct(">HHBBH6s4s6s4s")
REQUEST, ANSWER = 1, 2


class Arp(NamedTuple):
    """An ARP packet between Ethernet and IPv4."""

    operation: int
    sender_hardware: bytes
    sender: IPv4Address
    target_hardware: bytes
    target: IPv4Address


def decode_arp(data: bytes) -> Arp:
    """Read an ARP packet; padding after it is ignored. Raises PeerError."""
    if len(data) < _ARP.size:
        raise PeerError(f"truncated ARP packet: {len(data)} bytes")
    hardware, protocol, hlen, plen, operation, sha, spa, tha, tpa = _ARP.unpack_from(data)
    if (hardware, protocol, hlen, plen) != (1, ETHERTYPE_IPV4, 6, 4):
        raise PeerError("ARP: not between Ethernet and IPv4")
    return Arp(operation, sha, IPv4Address(spa), tha, IPv4Address(tpa))


def encode_arp(arp: Arp) -> bytes:
    """Write an ARP packet."""
    return _ARP.pack(
        1, ETHERTYPE_IPV4, 6, 4, arp.operation, arp.sender_hardware, arp.sender.packed, arp.target_hardware,
        arp.target.packed,
    )  # fmt: skip


def arp_probe(hardware: bytes, address: IPv4Address) -> Arp:
    """A probe for an address that changes no ARP cache (RFC 5227 section 2.1.1)."""
    return Arp(REQUEST, hardware, IPv4Address(0), bytes(6), address)


def ethernet(to: bytes, source: bytes, ethertype: int, payload: bytes) -> bytes:
    """A frame (IEEE 802.3 section 3.2, without its checksum)."""
    return to + source + ethertype.to_bytes(2, "big") + payload


def checksum(data: bytes) -> int:
    """The Internet checksum (RFC 1071)."""
    if len(data) % 2:
        data += b"\0"
    total = sum(struct.unpack(f">{len(data) // 2}H", data))
    while total >> 16:
        total = (total & 0xFFFF) + (total >> 16)
    return int(~total & 0xFFFF)


def udp4(source: IPv4Address, source_port: int, to: IPv4Address, to_port: int, payload: bytes) -> bytes:
    """An IPv4 packet with one UDP datagram in it (RFC 791 section 3.1, RFC 768)."""
    length = 8 + len(payload)
    pseudo = source.packed + to.packed + struct.pack(">BBH", 0, 17, length)
    udp = struct.pack(">HHHH", source_port, to_port, length, 0)
    # A sum of zero is sent as all ones: zero means that there is none.
    udp = udp[:6] + struct.pack(">H", checksum(pseudo + udp + payload) or 0xFFFF)
    head = struct.pack(">BBHHHBBH4s4s", 0x45, 0, 20 + length, 0, 0, 64, 17, 0, source.packed, to.packed)
    head = head[:10] + struct.pack(">H", checksum(head)) + head[12:]
    return head + udp + payload
