"""The sockets of one network's DHCP server. What is said on them is decided in `wire.dhcp4_server`."""

from __future__ import annotations

import asyncio
import contextlib
import socket
import time
from collections.abc import Callable, Iterable, Mapping
from functools import partial
from ipaddress import IPv4Address

from dacha.core.errors import PeerError
from dacha.wire.dhcp.dhcp4 import CLIENT_PORT, SERVER_PORT, Kind, Message, decode, encode
from dacha.wire.dhcp.dhcp4_lease import Action, Keep, Lease, Probe, Reply, Scope
from dacha.wire.dhcp.dhcp4_server import Server
from dacha.wire.link.ethernet import ETHERTYPE_ARP, ETHERTYPE_IPV4, EVERYBODY, arp_probe, decode_arp, encode_arp, udp4

# Somebody who has an address answers within this time on a bridge; so many messages are read in one go.
PROBE_S, BURST = 0.4, 64
Log = Callable[[str], None]


class DhcpService:
    """Serves one bridge until `close`."""

    def __init__(
        self,
        interface: str,
        scope: Scope,
        leases: Iterable[Lease],
        sockets: Mapping[str, socket.socket],
        keep: Callable[[Lease, Callable[[], None]], None],
        log: Log,
    ) -> None:
        """`keep` puts a lease where it outlives this process, and then calls what it is given."""
        self._interface, self._scope, self._keep, self._log = interface, scope, keep, log
        self._server = Server(scope, {lease.address: lease for lease in leases})
        self._probes: dict[IPv4Address, asyncio.Future[bool]] = {}
        self._tasks: set[asyncio.Task[None]] = set()
        self._udp, self._raw, self._arp = (sockets[what] for what in ("dhcp", "raw", "arp"))
        self._hardware = self._arp.getsockname()[4]
        loop = asyncio.get_running_loop()
        loop.add_reader(self._udp, self._readable)
        loop.add_reader(self._arp, self._arp_readable)

    def close(self) -> None:
        loop = asyncio.get_running_loop()
        for s in (self._udp, self._arp):
            loop.remove_reader(s)
        for task in self._tasks:
            task.cancel()
        for s in (self._udp, self._raw, self._arp):
            s.close()

    @property
    def leases(self) -> dict[IPv4Address, Lease]:
        return self._server.leases

    def _readable(self) -> None:
        for _ in range(BURST):
            try:
                data = self._udp.recv(2048)
            except OSError:
                return
            try:
                message = decode(data)
            except PeerError as e:
                self._log(f"a message was passed over: {e.what}")
                continue
            self._carry_out(self._server.receive(message, time.time()), message)

    def _carry_out(self, actions: list[Action], asked: Message) -> None:
        if not actions:
            self._log(f"{_kind(asked)} of {asked.chaddr.hex(':')} gets no answer: it is not ours to give")
        for n, action in enumerate(actions):
            match action:
                case Keep(lease=lease):
                    self._log(_lease_words(lease))
                    # What follows is said when the lease is kept, and not before (RFC 2131 section 3.1, step 4).
                    self._keep(lease, partial(self._go_on, actions[n + 1 :], asked))
                    return
                case Reply():
                    self._send(action)
                case Probe():
                    task = asyncio.ensure_future(self._probe(action))
                    self._tasks.add(task)
                    task.add_done_callback(self._tasks.discard)

    def _go_on(self, actions: list[Action], asked: Message) -> None:
        if actions:
            self._carry_out(actions, asked)

    def _send(self, reply: Reply) -> None:
        wire = encode(reply.message)
        try:
            if reply.direct:
                packet = udp4(self._scope.server, SERVER_PORT, reply.address, CLIENT_PORT, wire)
                self._raw.sendto(packet, (self._interface, ETHERTYPE_IPV4, 0, 0, reply.message.chaddr))
            else:
                self._udp.sendto(wire, (str(reply.address), reply.port))
        except OSError as e:
            self._log(f"an answer to {reply.message.chaddr.hex(':')} could not be sent: {e.strerror}")
            return
        if reply.message.kind == Kind.NAK:
            self._log(f"{reply.message.chaddr.hex(':')} was refused the address that it asked for")

    async def _probe(self, probe: Probe) -> None:
        """Ask for the owner of an address, and go on with the outcome."""
        heard: asyncio.Future[bool] = asyncio.get_running_loop().create_future()
        self._probes[probe.address] = heard
        with contextlib.suppress(OSError):
            question = encode_arp(arp_probe(self._hardware, probe.address))
            self._arp.sendto(question, (self._interface, ETHERTYPE_ARP, 0, 0, EVERYBODY))
        try:
            answered = await asyncio.wait_for(heard, PROBE_S)
        except TimeoutError:
            answered = False
        finally:
            self._probes.pop(probe.address, None)
        if answered:
            self._log(f"{probe.address} is in use by somebody who did not ask for it; it is left alone for an hour")
        self._carry_out(self._server.probed(probe, answered, time.time()), probe.message)

    def _arp_readable(self) -> None:
        for _ in range(BURST):
            try:
                data = self._arp.recv(2048)
            except OSError:
                return
            with contextlib.suppress(PeerError):
                heard = self._probes.get(decode_arp(data).sender)
                if heard and not heard.done():
                    heard.set_result(True)


def _kind(m: Message) -> str:
    return Kind(m.kind).name.lower() if m.kind in Kind._value2member_map_ else "a message"


def _lease_words(lease: Lease) -> str:
    name = f" ({lease.host_name})" if lease.host_name else ""
    match lease.state:
        case "bound":
            return f"{lease.address} is leased to {lease.hardware.hex(':')}{name}"
        case "released":
            return f"{lease.address} was given back by {lease.hardware.hex(':')}{name}"
        case _:
            return f"{lease.address} was refused by its client or is in use; it is left alone for an hour"
