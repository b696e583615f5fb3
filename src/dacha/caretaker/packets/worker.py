"""The packet worker: it reads what guests send, answers, and does nothing else.

It has a user of its own, no capabilities, no files but Python's, and only the system calls that it needs. The root part
opens its sockets, and stores what must outlive it. If it is killed, another one with the same orders replaces it.
"""

from __future__ import annotations

import asyncio
import contextlib
import socket
from collections.abc import Callable
from functools import partial
from ipaddress import IPv4Address, IPv6Address

from dacha.caretaker.packets import frames
from dacha.caretaker.packets.dhcp import DhcpService
from dacha.caretaker.packets.dns import DnsService
from dacha.caretaker.packets.hearing import Hearing, LinkLocals
from dacha.caretaker.packets.http import HttpService
from dacha.caretaker.packets.ip6 import Ip6Service
from dacha.caretaker.packets.messages import (
    LAN,
    TEXT_MOST,
    Announce,
    Begin,
    BootFile,
    Keep,
    Kept,
    Listen,
    Names,
    Says,
    Serve,
    Stop,
    Told,
    Up,
    Used,
    Want,
    encode,
    receive_order,
)
from dacha.caretaker.packets.multicast import MulticastNames
from dacha.caretaker.packets.tftp import TftpService
from dacha.core.errors import PeerError
from dacha.wire.dhcp.dhcp4_lease import Lease
from dacha.wire.dns.zone import Zone
from dacha.wire.link.ethernet import ETHERNET_HEADER, ETHERTYPE_ARP

# The limit of log lines per network and second; a flood of further ones is dropped.
LINES_MOST = 20
# Frames that are read together.
BURST = 64


class Worker:
    """Carries out the root part's orders."""

    def __init__(self, orders: socket.socket, told: socket.socket, frames: socket.socket) -> None:
        self._orders, self._told, self._frames = orders, told, frames
        frames.setblocking(False)
        self._zone = Zone("internal", {}, ())
        self._resolvers: tuple[str, ...] = ()
        self._dns: dict[str, DnsService] = {}
        self._dhcp: dict[str, DhcpService] = {}
        self._ip6: dict[str, Ip6Service] = {}
        # The network of each bridge, by the bridge's name.
        self._bridges: dict[str, str] = {}
        self._hearing: Hearing | None = None
        self._link_locals = LinkLocals()
        self._kept: dict[int, Callable[[], None]] = {}
        self._number = 0
        self._wanted: dict[int, Callable[[tuple[int, int] | None], None]] = {}
        self._tftp: dict[str, TftpService] = {}
        self._http: dict[str, HttpService] = {}
        self._lines: dict[str, tuple[int, int]] = {}
        self._multicast: MulticastNames | None = None
        self._beginning: set[asyncio.Task[None]] = set()
        self._failure: BaseException | None = None
        self._ended = asyncio.Event()

    async def run(self) -> None:
        """Serve until the root part exits."""
        loop = asyncio.get_running_loop()
        loop.add_reader(self._orders, self._readable)
        loop.add_reader(self._frames, self._frames_readable)
        await self._ended.wait()
        if self._failure:
            raise self._failure

    def _readable(self) -> None:
        received = receive_order(self._orders)
        if received is None:
            self._ended.set()
            return
        order, descriptors = received
        match order:
            case Serve(sockets=names):
                sockets = {n: socket.socket(fileno=fd) for n, fd in zip(names, descriptors, strict=True)}
                self._serve(order, sockets)
            case Stop(network=network):
                self._stop(network)
            case Listen(taps=taps):
                if self._hearing:
                    self._hearing.close()
                self._hearing = Hearing(taps, self._used, self._link_locals)
            case Names(domain=domain, names=hosts, subnets=subnets, resolvers=resolvers):
                self._zone, self._resolvers = Zone(domain, hosts, subnets), resolvers
                for service in self._dns.values():
                    service.serve(self._zone)
                    service.resolvers = resolvers
            case Announce():
                self._announce(order, [socket.socket(fileno=fd) for fd in descriptors])
            case Kept(number=number):
                self._kept.pop(number)()
            case BootFile(number=number, size=size):
                self._wanted.pop(number)(None if size is None else (descriptors[0], size))
            case Begin():
                self._tell(Up())

    def _announce(self, order: Announce, sockets: list[socket.socket]) -> None:
        if self._multicast and self._multicast.order == order:
            # They stay announced: a name that was claimed again would be unknown for a second.
            for s in sockets:
                s.close()
            return
        if self._multicast:
            self._multicast.close()
        self._multicast = MulticastNames(order, sockets[0], partial(self._say, LAN)) if sockets else None

    def _frames_readable(self) -> None:
        for _ in range(BURST):
            try:
                data = self._frames.recv(2 * frames.MOST)
            except BlockingIOError:
                return
            except OSError:
                data = b""
            if not data:
                # The relay has exited: the root part replaces both processes.
                self._ended.set()
                return
            with contextlib.suppress(PeerError):
                frame = frames.read_heard(data)
                if frame.link in self._bridges:
                    service = self._dhcp.get(self._bridges[frame.link])
                    if service and frame.ethertype == ETHERTYPE_ARP:
                        service.heed_arp(frame.data[ETHERNET_HEADER:])
                elif self._hearing:
                    self._hearing.heed(frame)

    def _send_frame(self, message: frames.SendProbe | frames.SendReply) -> None:
        self._frames.send(frames.wanted(message))

    def _stop(self, network: str) -> None:
        self._bridges = {link: served for link, served in self._bridges.items() if served != network}
        services = (self._dhcp, self._ip6, self._dns, self._tftp, self._http)
        found = [served.pop(network, None) for served in services]
        for service in found:
            if service:
                service.close()

    def _serve(self, order: Serve, sockets: dict[str, socket.socket]) -> None:
        # A lease that was just promised here may not have reached the root part yet: it counts.
        before = self._dhcp.get(order.network)
        leases = {lease.address: lease for lease in order.leases} | (before.leases if before else {})
        self._stop(order.network)

        def says(text: str) -> None:
            self._say(order.network, text)

        def keep(lease: Lease, go_on: Callable[[], None]) -> None:
            self._number += 1
            self._kept[self._number] = go_on
            self._tell(Keep(self._number, order.network, lease))

        self._bridges[order.link] = order.network
        if order.scope:
            self._dhcp[order.network] = DhcpService(
                order.network, order.scope, leases.values(), sockets["dhcp"], self._send_frame, keep, says
            )
        if order.scope6 and order.advertisement:
            self._ip6[order.network] = Ip6Service(
                order.link, order.advertisement, order.scope6, sockets, says, self._link_locals.of
            )
        if "tftp" in sockets and order.scope:
            address = str(order.scope.server)
            self._tftp[order.network] = TftpService(
                address, sockets.pop("tftp"), partial(self._want, order.network), says
            )
        if "http" in sockets:
            self._http[order.network] = HttpService(sockets.pop("http"), partial(self._want, order.network), says)
        names = DnsService(self._zone, order.admitted, forward=order.way_out)
        names.resolvers = self._resolvers
        self._dns[order.network] = names
        listening = asyncio.ensure_future(names.listen(sockets))
        self._beginning.add(listening)
        listening.add_done_callback(self._began)

    def _want(self, network: str, path: str, client: str, opened: Callable[[tuple[int, int] | None], None]) -> None:
        """Request a file: this process cannot open any."""
        self._number += 1
        self._wanted[self._number] = opened
        self._tell(Want(self._number, network, client, path[:TEXT_MOST]))

    def _began(self, task: asyncio.Task[None]) -> None:
        self._beginning.discard(task)
        if task.exception():
            # It would serve only a part: the next one may do better, and the reason is logged.
            self._failure = task.exception()
            self._ended.set()

    def _used(self, link: str, address: IPv4Address | IPv6Address, by: str) -> None:
        self._tell(Used(link, address, by))

    def _say(self, network: str, text: str) -> None:
        second = int(asyncio.get_running_loop().time())
        last, count = self._lines.get(network, (second, 0))
        count = count + 1 if last == second else 1
        self._lines[network] = (second, count)
        if count <= LINES_MOST:
            self._tell(Says(network, text))

    def _tell(self, message: Told) -> None:
        try:
            self._told.send(encode(message))
        except OSError:
            self._ended.set()
