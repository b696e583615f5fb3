"""The sockets for IPv6 of one network: router advertisements and DHCPv6."""

from __future__ import annotations

import asyncio
import contextlib
import random
import socket
import struct
from collections.abc import Callable
from ipaddress import IPv6Address

from dacha.caretaker.sockets import roomy
from dacha.core.errors import PeerError
from dacha.wire import dhcp6
from dacha.wire.router_advertisement import (
    ALL_NODES,
    ALL_ROUTERS,
    INTERVAL_S,
    SOLICITATION,
    Advertisement,
    encode,
)

# The first advertisements come soon after each other, so that nobody waits for the next (RFC 4861 section 6.2.4).
FIRST, FIRST_S, BURST = 3, 4.0, 64
_ICMP6_FILTER = 1  # linux/icmpv6.h


class Ip6Service:
    """Serves one bridge until `close`."""

    def __init__(self, interface: str, said: Advertisement, scope: dhcp6.Scope6, log: Callable[[str], None]) -> None:
        """Open the sockets. Raises OSError when the link is gone or the port is held."""
        self._scope, self._log, self._said = scope, log, encode(said)
        self._index = socket.if_nametoindex(interface)
        with contextlib.ExitStack() as opening:
            self._icmp = opening.enter_context(_icmp_socket(interface, self._index))
            self._udp = opening.enter_context(_udp_socket(interface, self._index))
            opening.pop_all()
        loop = asyncio.get_running_loop()
        loop.add_reader(self._icmp, self._solicited)
        loop.add_reader(self._udp, self._readable)
        self._telling = asyncio.ensure_future(self._tell())

    def close(self) -> None:
        loop = asyncio.get_running_loop()
        self._telling.cancel()
        for s in (self._icmp, self._udp):
            loop.remove_reader(s)
            s.close()

    async def _tell(self) -> None:
        """Advertise, for as long as this serves."""
        told = 0
        while True:
            self._advertise(ALL_NODES)
            told += 1
            await asyncio.sleep(FIRST_S if told < FIRST else random.uniform(*INTERVAL_S))

    def _advertise(self, to: IPv6Address) -> None:
        # The link's own address may not be ready yet; whoever needs an answer asks again.
        with contextlib.suppress(OSError):
            self._icmp.sendto(self._said, (str(to), 0, 0, self._index))

    def _solicited(self) -> None:
        for _ in range(BURST):
            try:
                data, client = self._icmp.recvfrom(2048)
            except OSError:
                return
            if data[:1] == bytes((SOLICITATION,)):
                asker = IPv6Address(client[0].partition("%")[0])
                self._advertise(ALL_NODES if asker.is_unspecified else asker)

    def _readable(self) -> None:
        for _ in range(BURST):
            try:
                data, client = self._udp.recvfrom(4096)
            except OSError:
                return
            try:
                message = dhcp6.decode(data)
                said = dhcp6.answer(self._scope, message, IPv6Address(client[0].partition("%")[0]))
            except PeerError as e:
                self._log(f"a message was passed over: {e.what}")
                continue
            if said is None:
                continue
            with contextlib.suppress(OSError):
                self._udp.sendto(dhcp6.encode(said), client)
            if message.kind in (dhcp6.REQUEST, dhcp6.RENEW, dhcp6.REBIND):
                self._log(f"DHCPv6: told {client[0].partition('%')[0]} its address")


def _icmp_socket(interface: str, index: int) -> socket.socket:
    s = socket.socket(socket.AF_INET6, socket.SOCK_RAW | socket.SOCK_NONBLOCK, socket.IPPROTO_ICMPV6)
    s.setsockopt(socket.SOL_SOCKET, socket.SO_BINDTODEVICE, interface.encode())
    # Anything less shows that a message came from beyond the link, and is not heard (RFC 4861 section 6.1.2).
    s.setsockopt(socket.IPPROTO_IPV6, socket.IPV6_MULTICAST_HOPS, 255)
    s.setsockopt(socket.IPPROTO_IPV6, socket.IPV6_UNICAST_HOPS, 255)
    _join(s, ALL_ROUTERS, index)
    # A set bit blocks a type: all but solicitations.
    wanted = [0xFFFFFFFF] * 8
    wanted[SOLICITATION >> 5] &= ~(1 << (SOLICITATION & 31)) & 0xFFFFFFFF
    s.setsockopt(socket.IPPROTO_ICMPV6, _ICMP6_FILTER, struct.pack("=8I", *wanted))
    return s


def _udp_socket(interface: str, index: int) -> socket.socket:
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
