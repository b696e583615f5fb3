"""The sockets of one network's DHCP server. The protocol logic is in `wire.dhcp.dhcp4_server`."""

from __future__ import annotations

import asyncio
import contextlib
import socket
import time
from collections.abc import Callable, Iterable
from functools import partial
from ipaddress import IPv4Address

from dacha.caretaker.packets.frames import SendProbe, SendReply
from dacha.core.errors import PeerError
from dacha.wire.dhcp.dhcp4 import Kind, Message, decode, encode
from dacha.wire.dhcp.dhcp4_lease import Action, Full, Keep, Lease, Probe, Reply, Scope
from dacha.wire.dhcp.dhcp4_server import Server
from dacha.wire.link.ethernet import decode_arp

# A machine on a bridge answers ARP within this time; how many messages are read together.
PROBE_S, BURST = 0.4, 64
Log = Callable[[str], None]


class DhcpService:
    """Serves one bridge until `close`."""

    def __init__(
        self,
        network: str,
        scope: Scope,
        leases: Iterable[Lease],
        udp: socket.socket,
        frames: Callable[[SendProbe | SendReply], None],
        keep: Callable[[Lease, Callable[[], None]], None],
        log: Log,
    ) -> None:
        """`keep` stores a lease durably, and then calls its argument; `frames` sends what ordinary sockets cannot."""
        self._network, self._scope, self._keep, self._log = network, scope, keep, log
        self._server = Server(scope, {lease.address: lease for lease in leases})
        self._probes: dict[IPv4Address, asyncio.Future[bool]] = {}
        self._tasks: set[asyncio.Task[None]] = set()
        self._udp, self._frames = udp, frames
        asyncio.get_running_loop().add_reader(self._udp, self._readable)

    def close(self) -> None:
        asyncio.get_running_loop().remove_reader(self._udp)
        for task in self._tasks:
            task.cancel()
        self._udp.close()

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
                self._log(f"message ignored: {e.what}")
                continue
            self._carry_out(self._server.receive(message, time.time()), message)

    def _carry_out(self, actions: list[Action], asked: Message) -> None:
        if not actions:
            who = asked.chaddr.hex(":")
            self._log(f"no answer to a {_kind(asked)} from {who}: it has neither a reservation nor a lease here")
        for n, action in enumerate(actions):
            match action:
                case Keep(lease=lease):
                    self._log(_lease_words(lease))
                    # The following actions wait until the lease is stored (RFC 2131 section 3.1, step 4).
                    self._keep(lease, partial(self._go_on, actions[n + 1 :], asked))
                    return
                case Reply():
                    self._send(action)
                case Full():
                    who = asked.chaddr.hex(":")
                    self._log(f"no address for {who}: every address of the dynamic range is leased")
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
                # An ordinary datagram requires a neighbour entry, which a client without an address cannot provide.
                self._frames(SendReply(self._network, reply.message.chaddr[:6], reply.address, wire))
            else:
                self._udp.sendto(wire, (str(reply.address), reply.port))
        except OSError as e:
            self._log(f"an answer to {reply.message.chaddr.hex(':')} could not be sent: {e.strerror}")
            return
        if reply.message.kind == Kind.NAK:
            self._log(f"{reply.message.chaddr.hex(':')} requested an address that it may not have; refused")

    async def _probe(self, probe: Probe) -> None:
        """Probe for the user of an address, and continue with the result."""
        heard: asyncio.Future[bool] = asyncio.get_running_loop().create_future()
        self._probes[probe.address] = heard
        with contextlib.suppress(OSError):
            self._frames(SendProbe(self._network, probe.address))
        try:
            answered = await asyncio.wait_for(heard, PROBE_S)
        except TimeoutError:
            answered = False
        finally:
            self._probes.pop(probe.address, None)
        if answered:
            self._log(f"{probe.address} is in use by a machine without a lease for it; not assigned for an hour")
        self._carry_out(self._server.probed(probe, answered, time.time()), probe.message)

    def heed_arp(self, packet: bytes) -> None:
        """Process an ARP packet received on the bridge."""
        with contextlib.suppress(PeerError):
            heard = self._probes.get(decode_arp(packet).sender)
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
            return f"{lease.address} was released by {lease.hardware.hex(':')}{name}"
        case _:
            return f"{lease.address} was declined by its client or is in use; not assigned for an hour"
