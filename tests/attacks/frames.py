"""Frames as an attacker makes them, and a program that sends them from inside a real guest."""

from __future__ import annotations

import struct
from ipaddress import IPv4Address, IPv6Address

from dacha.wire.link.ethernet import Arp, checksum, encode_arp, udp4

EVERYBODY = bytes.fromhex("ffffffffffff")
# socket(AF_PACKET, SOCK_RAW); for each record of 1,536 bytes read from standard input: its first two bytes are the
# length, sendto() of as many that follow on the second link (after lo). Hand-made, so that no compiler is needed.
_CODE = bytes.fromhex(
    "6a29586a115f6a035e990f054189c431c031ff488d3548000000ba000600000f053d00060000751f6a2c584489e70fb7164883c6024531d2"
    "4c8d050f0000006a1441590f05ebc86a3c5831ff0f0511000000020000000000000000000000000000000000"
)
RECORD = 1536


def sender() -> bytes:
    """The program, as a file (ELF-64, one segment that may be written and run)."""
    base, size = 0x400000, 64 + 56 + len(_CODE)
    head = b"\x7fELF\x02\x01\x01" + bytes(9)
    head += struct.pack("<HHIQQQIHHHHHH", 2, 62, 1, base + 120, 64, 0, 0, 64, 56, 1, 0, 0, 0)
    head += struct.pack("<IIQQQQQQ", 1, 7, 0, base, base, size, size + RECORD, 4096)
    return head + _CODE


def records(frames: list[bytes]) -> bytes:
    """What the program reads."""
    return b"".join(struct.pack("<H", len(f)) + f.ljust(RECORD - 2, b"\0") for f in frames)


def ethernet(to: bytes, source: bytes, kind: int, payload: bytes, tags: tuple[int, ...] = ()) -> bytes:
    """A frame; each tag is a VLAN number (IEEE 802.1Q), outermost first."""
    between = b"".join(struct.pack(">HH", 0x8100, tag) for tag in tags)
    return to + source + between + struct.pack(">H", kind) + payload


def udp(source: str, to: str, port: int, payload: bytes, source_port: int = 40000) -> bytes:
    return udp4(IPv4Address(source), source_port, IPv4Address(to), port, payload)


def syn(source: str, to: str, port: int, source_port: int) -> bytes:
    """The first packet of a TCP connection (RFC 9293)."""
    ends = IPv4Address(source).packed + IPv4Address(to).packed
    tcp = struct.pack(">HHIIBBHHH", source_port, port, 7, 0, 0x50, 2, 8192, 0, 0)
    tcp = tcp[:16] + struct.pack(">H", checksum(ends + struct.pack(">BBH", 0, 6, 20) + tcp)) + tcp[18:]
    head = struct.pack(">BBHHHBBH", 0x45, 0, 40, 1, 0, 64, 6, 0) + ends
    return head[:10] + struct.pack(">H", checksum(head)) + head[12:] + tcp


def arp_answer(hardware: bytes, address: str, to: str) -> bytes:
    """ "I have this address." """
    return encode_arp(Arp(2, hardware, IPv4Address(address), EVERYBODY, IPv4Address(to)))


def ip6(source: str, to: str, kind: int, payload: bytes, *, extension: bool = False) -> bytes:
    """An IPv6 packet; ICMPv6 gets its checksum. `extension` puts a header of destination options before it."""
    a, b = IPv6Address(source).packed, IPv6Address(to).packed
    if kind == 58:
        pseudo = a + b + struct.pack(">IHBB", len(payload), 0, 0, 58)
        payload = payload[:2] + struct.pack(">H", checksum(pseudo + payload)) + payload[4:]
    if extension:
        payload, kind = bytes((kind, 0, 1, 4, 0, 0, 0, 0)) + payload, 60
    return struct.pack(">IHBB", 6 << 28, len(payload), kind, 255) + a + b + payload


def router_advertisement(source: str, hardware: bytes, *, extension: bool = False) -> bytes:
    """ "I am the way out." """
    body = struct.pack(">BBHBBHII", 134, 0, 0, 64, 0, 1800, 0, 0) + bytes((1, 1)) + hardware
    prefix = struct.pack(">BBBBIII", 3, 4, 64, 0xC0, 3600, 3600, 0) + IPv6Address("2001:db8:bad::").packed
    return ip6(source, "ff02::1", 58, body + prefix, extension=extension)


def neighbour_advertisement(source: str, target: str, hardware: bytes) -> bytes:
    """ "I have this address", overriding what was known."""
    body = struct.pack(">BBHI", 136, 0, 0, 0x20000000) + IPv6Address(target).packed + bytes((2, 1)) + hardware
    return ip6(source, "ff02::1", 58, body)


def neighbour_solicitation(source: str, target: str, hardware: bytes) -> bytes:
    """ "Who has this address? I am …": teaches its hearer the asker's hardware address."""
    body = struct.pack(">BBHI", 135, 0, 0, 0) + IPv6Address(target).packed + bytes((1, 1)) + hardware
    return ip6(source, "ff02::1", 58, body)
