"""Which address each guest's adapter really uses, seen on the wire, whatever system runs in the guest.

ARP is listened to at the taps, before any rule: so a guest whose wrong address keeps it off its network is seen too.
"""

from __future__ import annotations

import asyncio
import contextlib
import ctypes
import socket
import struct
import time
from collections.abc import Callable, Mapping
from ipaddress import IPv4Address
from pathlib import Path

from dacha.core.errors import PeerError
from dacha.engine.sightings import Sighting, write
from dacha.wire.ethernet import ETHERTYPE_ARP, decode_arp

# An address that is seen again and again is noted no more often than this; so many frames are read in one go.
AGAIN_S, CHANGED_S, BURST = 10.0, 1.0, 64
_OUTGOING = 4  # linux/if_packet.h: a frame that this host sends
_HEADER = 14  # an Ethernet header
_EVERYTHING, _SO_ATTACH_FILTER = 0x0003, 26  # linux/if_ether.h, asm-generic/socket.h


class Watch:
    """Notes what the guests behind these taps use, until `close`."""

    def __init__(
        self, taps: Mapping[str, tuple[str, int, IPv4Address | None]], file: Path, log: Callable[[str], None]
    ) -> None:
        """`taps` says for each link whose adapter it is, and which address is planned for it. Raises OSError."""
        self._taps, self._file, self._log = taps, file, log
        self._seen: dict[tuple[str, int], Sighting] = {}
        self._socket = _arp_everywhere()
        asyncio.get_running_loop().add_reader(self._socket, self._readable)

    def close(self) -> None:
        asyncio.get_running_loop().remove_reader(self._socket)
        self._socket.close()

    def _readable(self) -> None:
        for _ in range(BURST):
            try:
                data, (link, _, kind, _, _) = self._socket.recvfrom(2048)
            except OSError:
                return
            whose = self._taps.get(link)
            if whose is None or kind == _OUTGOING:
                continue
            with contextlib.suppress(PeerError):
                sender = decode_arp(data[_HEADER:]).sender
                # A question from nobody only asks whether an address is free (RFC 5227 section 2.1.1).
                if not sender.is_unspecified:
                    self._note(*whose, sender)

    def _note(self, guest: str, adapter: int, planned: IPv4Address | None, used: IPv4Address) -> None:
        now = time.time()
        before = self._seen.get((guest, adapter))
        # A guest that changes its address all the time is heard once a second: each note is a write to the disk.
        if before and now - before.at < (AGAIN_S if before.address == used else CHANGED_S):
            return
        self._seen[guest, adapter] = Sighting(used, now)
        write(self._file, self._seen)
        if before is None or before.address != used:
            wrong = f", and {planned} is planned" if planned and planned != used else ""
            self._log(f"{guest} uses {used}{wrong}")


def _arp_everywhere() -> socket.socket:
    """A socket that hears ARP on every link: taps come and go, and a socket for each would have to follow them.

    A bridge takes a frame away before a socket for one protocol sees it, so this one is for all, and the kernel is
    given a filter (linux/filter.h) that lets through what has ARP's type.
    """
    s = socket.socket(socket.AF_PACKET, socket.SOCK_RAW | socket.SOCK_NONBLOCK, socket.htons(_EVERYTHING))
    program = (
        (0x28, 0, 0, 12),  # load the half word at 12, the frame's type
        (0x15, 0, 1, ETHERTYPE_ARP),  # is it ARP's? else pass over one
        (0x06, 0, 0, 0xFFFF),  # all of the frame
        (0x06, 0, 0, 0),  # nothing
    )
    code = ctypes.create_string_buffer(b"".join(struct.pack("=HBBI", *step) for step in program))
    s.setsockopt(socket.SOL_SOCKET, _SO_ATTACH_FILTER, struct.pack("HL", len(program), ctypes.addressof(code)))
    return s
