"""What guests say of their addresses, heard at the taps by the frame relay: ARP, neighbour discovery, a LAN's DHCP.

It is heard before any rule, so a guest whose wrong address keeps it off its network is heard too.
"""

from __future__ import annotations

import asyncio
import contextlib
import time
from collections.abc import Callable, Mapping
from ipaddress import IPv4Address, IPv6Address

from dacha.caretaker.packets.frames import Heard
from dacha.caretaker.packets.messages import Tap
from dacha.core.errors import PeerError
from dacha.wire.dhcp.dhcp4 import Kind, decode
from dacha.wire.link.ethernet import ETHERTYPE_ARP, ETHERTYPE_IPV4, decode_arp
from dacha.wire.link.neighbour import decode_neighbour

# An address that is seen again and again is told no more often than this, and a link's addresses that change all the
# time no more often than that.
AGAIN_S, CHANGED_S = 10.0, 1.0
_OUTGOING = 4  # linux/if_packet.h: a frame that this host sends
_HEADER = 14  # an Ethernet header


class Hearing:
    """Listens until `close`; `used` is told the link, the address, and whether it was seen ("wire") or granted."""

    def __init__(self, taps: Mapping[str, Tap], used: Callable[[str, IPv4Address | IPv6Address, str], None]) -> None:
        self._taps, self._used = taps, used
        self._told: dict[tuple[str, int], tuple[IPv4Address | IPv6Address, float]] = {}
        # Addresses that were heard too soon after the last: the latest is told when it may be, as a guest that is quiet
        # afterwards says it no more.
        self._later: dict[tuple[str, int], asyncio.TimerHandle] = {}

    def close(self) -> None:
        for timer in self._later.values():
            timer.cancel()

    def heed(self, frame: Heard) -> None:
        """Read one frame."""
        tap = self._taps.get(frame.link)
        if tap is None:
            return
        from_guest = (frame.kind == _OUTGOING) == tap.outgoing
        data = frame.data[_HEADER:]
        with contextlib.suppress(PeerError):
            if frame.ethertype == ETHERTYPE_IPV4:
                if not from_guest and not tap.managed:
                    self._overheard(frame.link, tap, data)
            elif not from_guest:
                return
            elif frame.ethertype == ETHERTYPE_ARP:
                sender = decode_arp(data).sender
                # A question from nobody only asks whether an address is free (RFC 5227 section 2.1.1).
                if not sender.is_unspecified:
                    self._tell(frame.link, sender, "wire")
            elif used := decode_neighbour(data).in_use():
                self._tell(frame.link, used, "wire")

    def _overheard(self, link: str, tap: Tap, packet: bytes) -> None:
        """An answer of a LAN's DHCP server on its way to a guest: what it grants, the guest uses from now on.

        A guest that was given an address need not say anything on its own. Raises PeerError.
        """
        told = decode(packet[(packet[0] & 15) * 4 + 8 :])
        if told.kind == Kind.ACK and told.chaddr.hex(":") == tap.hardware and any(told.yiaddr):
            self._tell(link, IPv4Address(told.yiaddr), "lease")

    def _tell(self, link: str, address: IPv4Address | IPv6Address, by: str) -> None:
        now, key = time.monotonic(), (link, address.version)
        if key in self._later:
            self._later.pop(key).cancel()
        before = self._told.get(key)
        if before and by == "wire":
            if before[0] == address and now - before[1] < AGAIN_S:
                return
            left = before[1] + CHANGED_S - now
            if before[0] != address and left > 0:
                self._later[key] = asyncio.get_running_loop().call_later(left, self._tell, link, address, by)
                return
        self._told[key] = (address, now)
        self._used(link, address, by)
