"""Which address each guest's adapter really uses, seen on the wire, whatever system runs in the guest.

ARP, neighbour discovery and a LAN's DHCP are listened to at the taps, before any rule: so a guest whose wrong address
keeps it off its network is seen too. What the lab's own DHCP leases, and what an agent says, is noted beside it.
"""

from __future__ import annotations

import asyncio
import contextlib
import ctypes
import socket
import struct
import time
from collections.abc import Callable, Iterable
from ipaddress import IPv4Address, IPv6Address
from pathlib import Path
from typing import NamedTuple

from dacha.core.errors import HostError, PeerError
from dacha.core.learned import Key, Sighting
from dacha.engine.sightings import write
from dacha.wire.dhcp4 import CLIENT_PORT, Kind, decode
from dacha.wire.ethernet import ETHERTYPE_ARP, ETHERTYPE_IPV4, decode_arp
from dacha.wire.neighbour import (
    ETHERTYPE_IPV6,
    ICMPV6,
    NEIGHBOUR_ADVERTISEMENT,
    NEIGHBOUR_SOLICITATION,
    decode_neighbour,
)

# An address that is seen again and again is noted no more often than this; so many frames are read in one go.
AGAIN_S, CHANGED_S, BURST = 10.0, 1.0, 64
# What was seen is on the disk within this time.
SAVE_S = 0.3
# A guest may use some IPv6 addresses at once (RFC 8981); the last few are remembered.
OTHERS_MOST = 6
_OUTGOING = 4  # linux/if_packet.h: a frame that this host sends
_HEADER, _UDP = 14, 17  # an Ethernet header; IPv4's number for UDP
_EVERYTHING, _SO_ATTACH_FILTER = 0x0003, 26  # linux/if_ether.h, asm-generic/socket.h


class Watched(NamedTuple):
    """A link to listen at: whose adapter it is, what is planned for it, and whether this host seems to send what its
    guest does (so it is with macvtap). On a network that is not `served` here, leases are others' to give."""

    key: Key
    hardware: str
    planned: IPv4Address | None
    outgoing: bool = False
    served: bool = True


class Watch:
    """Notes what the guests behind these links use, until `close`; `moved` is called when that changes."""

    def __init__(
        self,
        links: dict[str, Watched],
        before: dict[Key, Sighting],
        file: Path,
        log: Callable[[str], None],
        moved: Callable[[], None],
    ) -> None:
        """`links` by their names, `before` what was seen by an earlier watch. Raises OSError."""
        self._links, self._file, self._log, self._moved = links, file, log, moved
        self._by_hardware = {w.hardware: w for w in links.values()}
        self._saving: asyncio.TimerHandle | None = None
        known = {w.key for w in links.values()}
        self.seen: dict[Key, Sighting] = {key: s for key, s in before.items() if key in known}
        self._socket = _neighbours_everywhere()
        asyncio.get_running_loop().add_reader(self._socket, self._readable)

    def close(self) -> None:
        asyncio.get_running_loop().remove_reader(self._socket)
        self._socket.close()
        self.save()

    def leased(self, hardware: bytes, address: IPv4Address) -> None:
        """The lab's own DHCP has given an address to somebody: from now on nobody else has it."""
        found = self._by_hardware.get(hardware.hex(":"))
        if found is None:
            return
        for key, sighting in list(self.seen.items()) if found.planned is None else ():
            if key != found.key and sighting.address == address:
                del self.seen[key]
        self._note(found, address, by="lease")

    def told(self, addresses: Iterable[tuple[str, str]]) -> None:
        """A guest's agent has named its addresses, each with the hardware address of its adapter."""
        for hardware, text in addresses:
            found = self._by_hardware.get(hardware.lower())
            with contextlib.suppress(ValueError):
                if found and ":" in text:
                    self._note6(found, IPv6Address(text.partition("/")[0]))
                elif found and found.key not in self.seen:
                    # What the wire says is newer than what an agent says; it counts where the wire was silent.
                    self._note(found, IPv4Address(text.partition("/")[0]), by="agent")

    def _readable(self) -> None:
        for _ in range(BURST):
            try:
                data, (link, ethertype, kind, _, _) = self._socket.recvfrom(2048)
            except OSError:
                return
            watched = self._links.get(link)
            if watched is None:
                continue
            from_guest = (kind == _OUTGOING) == watched.outgoing
            with contextlib.suppress(PeerError):
                if ethertype == ETHERTYPE_IPV4:
                    if not from_guest and not watched.served:
                        self._overheard(watched, data[_HEADER:])
                elif not from_guest:
                    continue
                elif ethertype == ETHERTYPE_ARP:
                    sender = decode_arp(data[_HEADER:]).sender
                    # A question from nobody only asks whether an address is free (RFC 5227 section 2.1.1).
                    if not sender.is_unspecified:
                        self._note(watched, sender, by="wire")
                elif used := decode_neighbour(data[_HEADER:]).in_use():
                    self._note6(watched, used)

    def _overheard(self, watched: Watched, packet: bytes) -> None:
        """An answer of a LAN's DHCP server on its way to a guest: what it grants, the guest uses from now on.

        A guest that was given an address need not say anything on its own. Raises PeerError.
        """
        told = decode(packet[(packet[0] & 15) * 4 + 8 :])
        if told.kind == Kind.ACK and told.chaddr.hex(":") == watched.hardware and any(told.yiaddr):
            self._note(watched, IPv4Address(told.yiaddr), by="lease")

    def _note(self, watched: Watched, used: IPv4Address, by: str) -> None:
        now = time.time()
        before = self.seen.get(watched.key)
        same = before is not None and before.address == used
        # A guest that changes its address all the time is heard once a second: each note is a write to the disk.
        if before and by == "wire" and now - before.at < (AGAIN_S if same else CHANGED_S):
            return
        if before and same:
            kept = "lease" if "lease" in (by, before.by) else by
            self._keep(watched.key, before._replace(at=now, by=kept))
            return
        self._keep(watched.key, Sighting(used, now, now, by, before.others if before else ()))
        wrong = f", and {watched.planned} is planned" if watched.planned and watched.planned != used else ""
        self._log(f"{watched.key[0]} uses {used}{wrong}")
        if watched.planned is None:
            self._moved()

    def _note6(self, watched: Watched, used: IPv6Address) -> None:
        before = self.seen.get(watched.key, Sighting(None, 0.0))
        if used.is_link_local or str(used) in before.others:
            return
        others = (*before.others, str(used))[-OTHERS_MOST:]
        self._keep(watched.key, before._replace(at=time.time(), others=others))
        self._log(f"{watched.key[0]} uses {used}")

    def _keep(self, key: Key, sighting: Sighting) -> None:
        self.seen[key] = sighting
        if self._saving is None:
            # Two hundred guests that boot together are noted by a few writes, not by two hundred.
            self._saving = asyncio.get_running_loop().call_later(SAVE_S, self.save)

    def save(self) -> None:
        """Put what is new where every command finds it."""
        if self._saving is None:
            return
        self._saving.cancel()
        self._saving = None
        try:
            write(self._file, self.seen)
        except HostError as e:
            self._log("what was seen could not be noted: " + " / ".join(e.lines()))


def _neighbours_everywhere() -> socket.socket:
    """A socket that hears ARP and neighbour discovery on every link: taps come and go, and a socket for each would have
    to follow them.

    A bridge takes a frame away before a socket for one protocol sees it, so this one is for all, and the kernel is
    given a filter (linux/filter.h) that lets through what is wanted.
    """
    s = socket.socket(socket.AF_PACKET, socket.SOCK_RAW | socket.SOCK_NONBLOCK, socket.htons(_EVERYTHING))
    program = (
        (0x28, 0, 0, 12),  # load the half word at 12, the frame's type
        (0x15, 12, 0, ETHERTYPE_ARP),  # ARP: all of the frame
        (0x15, 0, 5, ETHERTYPE_IPV6),
        (0x30, 0, 0, _HEADER + 6),  # load the byte that names the next header
        (0x15, 0, 10, ICMPV6),
        (0x30, 0, 0, _HEADER + 40),  # load the message's type
        (0x15, 7, 0, NEIGHBOUR_SOLICITATION),
        (0x15, 6, 7, NEIGHBOUR_ADVERTISEMENT),
        (0x15, 0, 6, ETHERTYPE_IPV4),
        (0x30, 0, 0, _HEADER + 9),  # load the protocol
        (0x15, 0, 4, _UDP),
        (0xB1, 0, 0, _HEADER),  # the length of the IPv4 header, into the index
        (0x48, 0, 0, _HEADER + 2),  # load the port that the datagram goes to
        (0x15, 0, 1, CLIENT_PORT),
        (0x06, 0, 0, 0xFFFF),  # all of the frame
        (0x06, 0, 0, 0),  # nothing
    )
    code = ctypes.create_string_buffer(b"".join(struct.pack("=HBBI", *step) for step in program))
    s.setsockopt(socket.SOL_SOCKET, _SO_ATTACH_FILTER, struct.pack("HL", len(program), ctypes.addressof(code)))
    return s
