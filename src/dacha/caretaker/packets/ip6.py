"""The sockets for IPv6 of one network: router advertisements and DHCPv6."""

from __future__ import annotations

import asyncio
import contextlib
import random
import socket
from collections.abc import Callable, Mapping
from ipaddress import IPv6Address

from dacha.core.errors import PeerError
from dacha.wire.dhcp import dhcp6
from dacha.wire.link.router_advertisement import (
    ALL_NODES,
    INTERVAL_S,
    SOLICITATION,
    Advertisement,
    encode,
)

# The first advertisements come soon after each other, so that nobody waits for the next (RFC 4861 section 6.2.4).
FIRST, FIRST_S, BURST = 3, 4.0, 64
# So many askers in a row who could not be answered are no longer a matter of patience.
UNANSWERED = 3


class Ip6Service:
    """Serves one bridge until `close`."""

    def __init__(
        self,
        interface: str,
        said: Advertisement,
        scope: dhcp6.Scope6,
        sockets: Mapping[str, socket.socket],
        log: Callable[[str], None],
    ) -> None:
        """Begin to advertise and to answer. Raises OSError when the link is gone."""
        self._scope, self._log, self._said = scope, log, encode(said)
        self._index = socket.if_nametoindex(interface)
        self._icmp, self._udp = sockets["icmp6"], sockets["dhcp6"]
        self._unanswered = 0
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
            # The link's own address may not be ready yet; whoever needs an answer asks again.
            with contextlib.suppress(OSError):
                self._advertise(ALL_NODES)
            told += 1
            await asyncio.sleep(FIRST_S if told < FIRST else random.uniform(*INTERVAL_S))

    def _advertise(self, to: IPv6Address) -> None:
        self._icmp.sendto(self._said, (str(to), 0, 0, self._index))

    def _solicited(self) -> None:
        for _ in range(BURST):
            try:
                data, client = self._icmp.recvfrom(2048)
            except OSError:
                return
            if data[:1] == bytes((SOLICITATION,)):
                asker = IPv6Address(client[0].partition("%")[0])
                try:
                    self._advertise(ALL_NODES if asker.is_unspecified else asker)
                    self._unanswered = 0
                except OSError as e:
                    self._unanswered += 1
                    if self._unanswered == UNANSWERED:
                        self._log(f"guests that ask for a router cannot be answered: {e.strerror}")

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
