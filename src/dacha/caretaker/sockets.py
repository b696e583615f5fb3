"""The sockets of the caretaker's services, opened by its root part: the packet worker cannot open them."""

from __future__ import annotations

import contextlib
import ctypes
import socket
import struct
from collections.abc import Iterable, Iterator, Mapping
from ipaddress import IPv6Address

from dacha.core.named import NamedTuple
from dacha.wire import http, tftp
from dacha.wire.dhcp import dhcp6
from dacha.wire.dhcp.dhcp4 import CLIENT_PORT, SERVER_PORT
from dacha.wire.link.ethernet import ETHERTYPE_ARP, ETHERTYPE_IPV4
from dacha.wire.link.neighbour import ETHERTYPE_IPV6, ICMPV6, NEIGHBOUR_ADVERTISEMENT, NEIGHBOUR_SOLICITATION
from dacha.wire.link.router_advertisement import ALL_ROUTERS, SOLICITATION

# Linux: asm-generic/socket.h. Unlike SO_RCVBUF it may exceed the host's limit, with the privilege.
_SO_RCVBUFFORCE, _SO_ATTACH_FILTER, _SO_LOCK_FILTER = 33, 26, 44
_BYTES = 4 << 20
_ICMP6_FILTER = 1  # linux/icmpv6.h
_HEADER, _UDP = 14, 17  # an Ethernet header; IPv4's number for UDP
_EVERYTHING = 0x0003  # linux/if_ether.h


class Opened(NamedTuple):
    """The sockets of one network, and what they were opened for: its link's index, protocols, addresses."""

    wanted: tuple[object, ...]
    sockets: dict[str, socket.socket]

    def close(self) -> None:
        for s in self.sockets.values():
            s.close()


def open_network(
    interface: str, *, four: bool, six: bool, resolvers: Iterable[str], boot: str | None = None
) -> dict[str, socket.socket]:
    """Every socket for one network, by its purpose: "dhcp", "icmp6", "dhcp6", for each address that answers DNS "udp
    ADDRESS" and "tcp ADDRESS", and for network boot "tftp" and "http" on the address `boot`. Raises OSError; then none
    stays open."""
    found: dict[str, socket.socket] = {}
    with contextlib.ExitStack() as opening:
        for what, s in _each(interface, four, six, resolvers):
            found[what] = opening.enter_context(s)
        if boot:
            found["tftp"] = opening.enter_context(_datagrams(interface, boot, tftp.PORT))
            found["http"] = opening.enter_context(connections(interface, boot, http.PORT))
        opening.pop_all()
    return found


def _each(interface: str, four: bool, six: bool, resolvers: Iterable[str]) -> Iterator[tuple[str, socket.socket]]:
    if four:
        yield "dhcp", _dhcp(interface)
    if six:
        index = socket.if_nametoindex(interface)
        yield "icmp6", _icmp6(interface, index)
        yield "dhcp6", _dhcp6(interface, index)
    for address in resolvers:
        yield f"udp {address}", _dns(interface, address, socket.SOCK_DGRAM)
        yield f"tcp {address}", _dns(interface, address, socket.SOCK_STREAM)


def roomy(s: socket.socket) -> None:
    """A buffer for thousands of datagrams, so that none is lost when a whole lab starts at once."""
    s.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, _BYTES)
    with contextlib.suppress(OSError):
        s.setsockopt(socket.SOL_SOCKET, _SO_RCVBUFFORCE, _BYTES)


def _dns(interface: str, address: str, kind: int) -> socket.socket:
    if kind == socket.SOCK_STREAM:
        return connections(interface, address, 53)
    s = socket.socket(socket.AF_INET6 if ":" in address else socket.AF_INET, kind | socket.SOCK_NONBLOCK)
    s.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    # Only traffic on this bridge: bound to the address alone, it would also serve the host's other networks.
    s.setsockopt(socket.SOL_SOCKET, socket.SO_BINDTODEVICE, interface.encode())
    s.bind((address, 53))
    roomy(s)
    return s


def connections(interface: str, address: str, port: int) -> socket.socket:
    """A listening socket for connections on this bridge only. Raises OSError; then it is closed."""
    s = socket.socket(socket.AF_INET6 if ":" in address else socket.AF_INET, socket.SOCK_STREAM | socket.SOCK_NONBLOCK)
    with contextlib.ExitStack() as opening:
        opening.enter_context(s)
        s.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        s.setsockopt(socket.SOL_SOCKET, socket.SO_BINDTODEVICE, interface.encode())
        s.bind((address, port))
        s.listen(100)
        opening.pop_all()
    return s


def _datagrams(interface: str, address: str, port: int) -> socket.socket:
    s = socket.socket(socket.AF_INET, socket.SOCK_DGRAM | socket.SOCK_NONBLOCK)
    s.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    s.setsockopt(socket.SOL_SOCKET, socket.SO_BINDTODEVICE, interface.encode())
    s.bind((address, port))
    return s


def _dhcp(interface: str) -> socket.socket:
    s = socket.socket(socket.AF_INET, socket.SOCK_DGRAM | socket.SOCK_NONBLOCK)
    s.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    s.setsockopt(socket.SOL_SOCKET, socket.SO_BROADCAST, 1)
    # The connections of guests that start together wait here.
    roomy(s)
    s.setsockopt(socket.SOL_SOCKET, socket.SO_BINDTODEVICE, interface.encode())
    s.bind(("", SERVER_PORT))
    return s


def _icmp6(interface: str, index: int) -> socket.socket:
    s = socket.socket(socket.AF_INET6, socket.SOCK_RAW | socket.SOCK_NONBLOCK, socket.IPPROTO_ICMPV6)
    s.setsockopt(socket.SOL_SOCKET, socket.SO_BINDTODEVICE, interface.encode())
    # A lower hop limit shows that a message came from beyond the link: it is dropped (RFC 4861 section 6.1.2).
    s.setsockopt(socket.IPPROTO_IPV6, socket.IPV6_MULTICAST_HOPS, 255)
    s.setsockopt(socket.IPPROTO_IPV6, socket.IPV6_UNICAST_HOPS, 255)
    _join(s, ALL_ROUTERS, index)
    # A set bit blocks a type: all except solicitations.
    wanted = [0xFFFFFFFF] * 8
    wanted[SOLICITATION >> 5] &= ~(1 << (SOLICITATION & 31)) & 0xFFFFFFFF
    s.setsockopt(socket.IPPROTO_ICMPV6, _ICMP6_FILTER, struct.pack("=8I", *wanted))
    return s


def _dhcp6(interface: str, index: int) -> socket.socket:
    s = socket.socket(socket.AF_INET6, socket.SOCK_DGRAM | socket.SOCK_NONBLOCK)
    s.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    s.setsockopt(socket.IPPROTO_IPV6, socket.IPV6_V6ONLY, 1)
    s.setsockopt(socket.SOL_SOCKET, socket.SO_BINDTODEVICE, interface.encode())
    roomy(s)
    s.bind(("::", dhcp6.SERVER_PORT))
    _join(s, dhcp6.ALL_SERVERS, index)
    return s


def _join(s: socket.socket, group: IPv6Address, index: int) -> None:
    s.setsockopt(socket.IPPROTO_IPV6, socket.IPV6_JOIN_GROUP, group.packed + struct.pack("=I", index))


class FrameSockets:
    """The sockets of the frame relay, one per link: in `opened`, each with its link's name and, if it sends, the
    network and the address of its DHCP server ("" for others)."""

    def __init__(self) -> None:
        self.opened: list[tuple[tuple[str, str, str], socket.socket]] = []

    def renew(self, taps: Iterable[str], bridges: Mapping[str, tuple[str, str]]) -> dict[str, str]:
        """Open them for these taps, and for the bridge and server address of each network; returns the links that could
        not be opened, each with the reason."""
        self.close()
        wanted = [(tap, ("", ""), hears_guest) for tap in taps]
        for network, (bridge, server) in bridges.items():
            wanted += [(bridge, (network, server), sends_by), (bridge, ("", ""), hears_arp)]
        missing = {}
        for link, serves, opening in wanted:
            try:
                self.opened.append(((link, *serves), opening(link)))
            except OSError as e:
                missing[link] = e.strerror or str(e)
        return missing

    def close(self) -> None:
        for _, s in self.opened:
            s.close()
        self.opened = []


def sends_by(interface: str) -> socket.socket:
    """A packet socket that sends on a link and receives nothing. Raises OSError."""
    return _frames(interface, 0)


def hears_arp(interface: str) -> socket.socket:
    """A socket that receives the ARP packets of a bridge. Raises OSError."""
    return _frames(interface, ETHERTYPE_ARP)


def hears_guest(interface: str) -> socket.socket:
    """A socket that receives ARP, neighbour discovery and DHCP answers on a tap. Raises OSError. A bridge takes a frame
    before a socket for a single protocol sees it, so this one is for all, with a kernel filter (linux/filter.h) for the
    relevant frames."""
    return _frames(interface, _EVERYTHING, _wanted())


def _frames(interface: str, ethertype: int, filter_: tuple[tuple[int, int, int, int], ...] = ()) -> socket.socket:
    """A packet socket of one link. Its filter is set before it receives anything, and locked: a process that gets the
    socket can neither remove nor replace it (Linux: SO_LOCK_FILTER)."""
    s = socket.socket(socket.AF_PACKET, socket.SOCK_RAW | socket.SOCK_NONBLOCK, 0)
    try:
        if filter_:
            code = ctypes.create_string_buffer(b"".join(struct.pack("=HBBI", *step) for step in filter_))
            s.setsockopt(socket.SOL_SOCKET, _SO_ATTACH_FILTER, struct.pack("HL", len(filter_), ctypes.addressof(code)))
        s.setsockopt(socket.SOL_SOCKET, _SO_LOCK_FILTER, 1)
        s.bind((interface, ethertype))
    except BaseException:
        s.close()
        raise
    return s


def _wanted() -> tuple[tuple[int, int, int, int], ...]:
    return (
        (0x28, 0, 0, 12),  # load the half word at 12, the frame's type
        (0x15, 12, 0, ETHERTYPE_ARP),  # ARP: the whole frame
        (0x15, 0, 5, ETHERTYPE_IPV6),
        (0x30, 0, 0, _HEADER + 6),  # load the byte with the next header
        (0x15, 0, 10, ICMPV6),
        (0x30, 0, 0, _HEADER + 40),  # load the message's type
        (0x15, 7, 0, NEIGHBOUR_SOLICITATION),
        (0x15, 6, 7, NEIGHBOUR_ADVERTISEMENT),
        (0x15, 0, 6, ETHERTYPE_IPV4),
        (0x30, 0, 0, _HEADER + 9),  # load the protocol
        (0x15, 0, 4, _UDP),
        (0xB1, 0, 0, _HEADER),  # the length of the IPv4 header, into the index
        (0x48, 0, 0, _HEADER + 2),  # load the destination port
        (0x15, 0, 1, CLIENT_PORT),
        (0x06, 0, 0, 0xFFFF),  # the whole frame
        (0x06, 0, 0, 0),  # nothing
    )
