"""Addresses that guests use, observed by the frame relay on their taps: ARP, neighbour discovery, a LAN's DHCP.

It listens before all rules, so it also sees guests whose wrong address is blocked.
"""

from __future__ import annotations

import asyncio
import contextlib
import time
from collections import OrderedDict
from collections.abc import Callable, Mapping
from ipaddress import IPv4Address, IPv6Address

from dacha.caretaker.packets.frames import Heard
from dacha.caretaker.packets.messages import Tap
from dacha.core.errors import PeerError
from dacha.wire.dhcp.dhcp4 import Kind, decode
from dacha.wire.link.ethernet import ETHERTYPE_ARP, ETHERTYPE_IPV4, decode_arp
from dacha.wire.link.neighbour import decode_neighbour

# The minimum interval of reports about the same address, and about a link whose addresses keep changing.
AGAIN_S, CHANGED_S = 10.0, 1.0
# The number of remembered link-local addresses per adapter.
EACH_MOST = 4
_OUTGOING = 4  # linux/if_packet.h: a frame sent by this host
_HEADER = 14  # an Ethernet header


class LinkLocals:
    """Which adapter uses which link-local address: the latest observed on each tap."""

    def __init__(self) -> None:
        self._at: dict[str, OrderedDict[IPv6Address, None]] = {}
        self._hardware: dict[str, bytes] = {}

    def note(self, link: str, hardware: str, address: IPv6Address) -> None:
        """Record that the adapter with this hardware address announced this address on its tap."""
        has = self._at.setdefault(link, OrderedDict())
        has.pop(address, None)
        has[address] = None
        if len(has) > EACH_MOST:
            has.popitem(last=False)
        self._hardware[link] = bytes.fromhex(hardware.replace(":", ""))

    def of(self, address: IPv6Address) -> bytes | None:
        """The hardware address of the adapter that uses it; None if none or several do."""
        found = {self._hardware[link] for link, has in self._at.items() if address in has}
        return next(iter(found)) if len(found) == 1 else None


class Hearing:
    """Listens until `close`; `used` is called with the link, the address, and "wire" (traffic) or "lease"."""

    def __init__(
        self,
        taps: Mapping[str, Tap],
        used: Callable[[str, IPv4Address | IPv6Address, str], None],
        link_locals: LinkLocals | None = None,
    ) -> None:
        self._taps, self._used, self._link_locals = taps, used, link_locals or LinkLocals()
        self._told: dict[tuple[str, int], tuple[IPv4Address | IPv6Address, float]] = {}
        # Addresses seen too soon after the last report. The latest is reported when the interval has passed, because a
        # quiet guest will not send it again.
        self._later: dict[tuple[str, int], asyncio.TimerHandle] = {}

    def close(self) -> None:
        for timer in self._later.values():
            timer.cancel()

    def heed(self, frame: Heard) -> None:
        """Process one frame."""
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
                # A probe from the unspecified address only checks whether an address is free (RFC 5227 section 2.1.1).
                if not sender.is_unspecified:
                    self._tell(frame.link, sender, "wire")
            elif used := decode_neighbour(data).in_use():
                if used.is_link_local:
                    self._link_locals.note(frame.link, tap.hardware, used)
                self._tell(frame.link, used, "wire")

    def _overheard(self, link: str, tap: Tap, packet: bytes) -> None:
        """An answer of a LAN's DHCP server to a guest: the guest uses the assigned address from now on. It may send
        nothing by itself. Raises PeerError."""
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
