"""The IPv6 sockets of one network: router advertisements and DHCPv6."""

from __future__ import annotations

import asyncio
import contextlib
import random
import socket
from collections import OrderedDict
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

# The first advertisements follow each other quickly, so that no client waits (RFC 4861 section 6.2.4).
FIRST, FIRST_S, BURST = 3, 4.0, 64
# After so many failed answers in a row, the failure is logged.
UNANSWERED = 3
# After so many requests, the identifier of an unknown client is accepted; how many of them are remembered.
PATIENCE, UNKNOWN_MOST = 3, 256


class Ip6Service:
    """Serves one bridge until `close`."""

    def __init__(
        self,
        interface: str,
        said: Advertisement,
        scope: dhcp6.Scope6,
        sockets: Mapping[str, socket.socket],
        log: Callable[[str], None],
        heard: Callable[[IPv6Address], bytes | None] = lambda address: None,
    ) -> None:
        """Start advertising and answering; `heard` returns the hardware address of the adapter that uses a link-local
        address. Raises OSError if the link does not exist."""
        self._scope, self._log, self._said, self._heard = scope, log, encode(said), heard
        # The number of requests of each unknown client.
        self._unknown: OrderedDict[IPv6Address, int] = OrderedDict()
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
        """Advertise periodically, while this serves."""
        told = 0
        while True:
            # The link's own address may not be ready yet; clients repeat their requests.
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
                        self._log(f"cannot answer router solicitations: {e.strerror}")

    def _to_be_known(self, source: IPv6Address) -> bool:
        """True while the owner of this address may still become known: an advertisement to it makes the kernel
        resolve it, and the answer is observed on its tap. A client repeats its request after a second (RFC 8415
        section 7.6)."""
        if dhcp6.in_address(source):
            return False
        count = self._unknown[source] = self._unknown.pop(source, 0) + 1
        while len(self._unknown) > UNKNOWN_MOST:
            self._unknown.popitem(last=False)
        with contextlib.suppress(OSError):
            self._advertise(source)
        return count < PATIENCE

    def _readable(self) -> None:
        for _ in range(BURST):
            try:
                data, client = self._udp.recvfrom(4096)
            except OSError:
                return
            source = IPv6Address(client[0].partition("%")[0])
            heard = self._heard(source)
            if heard is None and self._to_be_known(source):
                continue
            try:
                message = dhcp6.decode(data)
                said = dhcp6.answer(self._scope, message, source, heard)
            except PeerError as e:
                self._log(f"message ignored: {e.what}")
                continue
            if said is None:
                continue
            with contextlib.suppress(OSError):
                self._udp.sendto(dhcp6.encode(said), client)
            if message.kind in (dhcp6.REQUEST, dhcp6.RENEW, dhcp6.REBIND):
                self._log(f"DHCPv6: assigned an address to {client[0].partition('%')[0]}")
