"""The frame relay: the process that has the packet sockets, and does nothing else.

Such a socket can send any frame on any link of this host, so the process that reads guests' data has none. The relay
reads only a frame's length: it passes frames to the packet worker, and sends ARP probes and DHCP answers for it, which
it composes itself, on the bridge that the socket is bound to. The kernel does not let it send to other addresses.
"""

from __future__ import annotations

import contextlib
import select
import socket
from ipaddress import IPv4Address

from dacha.caretaker.packets.frames import MOST, Heard, SendProbe, SendReply, heard, read_wanted
from dacha.caretaker.packets.messages import Attach, receive_order
from dacha.core.errors import PeerError
from dacha.core.named import NamedTuple
from dacha.wire.dhcp.dhcp4 import CLIENT_PORT, SERVER_PORT
from dacha.wire.link.ethernet import (
    ETHERTYPE_ARP,
    ETHERTYPE_IPV4,
    EVERYBODY,
    arp_probe,
    encode_arp,
    ethernet,
    udp4,
)

# Frames of one link that are passed on together.
BURST = 64


class Bridge(NamedTuple):
    """A network's bridge: the socket that sends on it, its hardware address, and the address of its DHCP server."""

    socket: socket.socket
    hardware: bytes
    server: IPv4Address


class Relay:
    """Passes frames on until the worker or the root part exits."""

    def __init__(self, orders: socket.socket, worker: socket.socket) -> None:
        self._orders, self._worker = orders, worker
        worker.setblocking(False)
        self._bridges: dict[str, Bridge] = {}
        self._links: dict[int, tuple[str, socket.socket]] = {}
        self._poll = select.poll()
        for s in (orders, worker):
            self._poll.register(s, select.POLLIN)

    def run(self) -> None:
        while True:
            for number, event in self._poll.poll():
                if number in self._links:
                    self._heard(number)
                elif number == self._orders.fileno():
                    received = receive_order(self._orders)
                    if received is None:
                        return
                    self._attach(*received)
                elif event & select.POLLIN:
                    if not self._send():
                        return
                else:
                    return

    def _attach(self, order: object, descriptors: list[int]) -> None:
        if not isinstance(order, Attach):
            return
        if order.first:
            for number, (_, s) in self._links.items():
                with contextlib.suppress(KeyError):
                    self._poll.unregister(number)
                s.close()
            self._bridges, self._links = {}, {}
        for (link, network, server), fd in zip(order.links, descriptors, strict=True):
            s = socket.socket(fileno=fd)
            if network:
                self._bridges[network] = Bridge(s, s.getsockname()[4], IPv4Address(server))
            else:
                self._poll.register(fd, select.POLLIN)
            self._links[fd] = (link, s)

    def _heard(self, number: int) -> None:
        link, s = self._links[number]
        for _ in range(BURST):
            try:
                data, (_, ethertype, kind, _, _) = s.recvfrom(MOST)
            except OSError:
                return
            # A busy worker gets fewer frames, as from a socket of its own.
            with contextlib.suppress(OSError):
                self._worker.send(heard(Heard(link, kind, ethertype, data)))

    def _send(self) -> bool:
        """Send what the worker requests; False when it has exited."""
        for _ in range(BURST):
            try:
                data = self._worker.recv(MOST + 300)
            except BlockingIOError:
                return True
            except OSError:
                return False
            if not data:
                return False
            with contextlib.suppress(OSError, PeerError):
                message = read_wanted(data)
                if bridge := self._bridges.get(message.network):
                    bridge.socket.send(frame(message, bridge.hardware, bridge.server))
        return True


def frame(message: SendProbe | SendReply, own: bytes, server: IPv4Address) -> bytes:
    """The frame to send, from this host's own addresses."""
    if isinstance(message, SendProbe):
        return ethernet(EVERYBODY, own, ETHERTYPE_ARP, encode_arp(arp_probe(own, message.address)))
    packet = udp4(server, SERVER_PORT, message.address, CLIENT_PORT, message.message)
    return ethernet(message.hardware, own, ETHERTYPE_IPV4, packet)
