"""A small simulated home router, for the demo and the tests: asked by PCP or NAT-PMP, it leads an outside port to an
inside one by relaying TCP and UDP, and so needs no privileges.

Run it with python -m dacha.demo.router --inside 127.0.0.1 --outside 127.0.0.77 --told 203.0.113.77
"""

from __future__ import annotations

import argparse
import asyncio
import contextlib
import signal
import socket
import sys
import time
from collections.abc import Coroutine
from ipaddress import IPv4Address
from typing import Any

from dacha.core.errors import PeerError
from dacha.core.named import NamedTuple
from dacha.wire.router import nat_pmp, pcp

# The maximum lifetime of a mapping, and their maximum number: a home router has little memory.
LONGEST_S, MOST = 7200, 64
# A relayed UDP exchange expires after this silence (RFC 4787 section 4.3).
UDP_IDLE_S = 120.0


class Held(NamedTuple):
    """One mapping: its target, its owner, when it expires, and its relay."""

    to: tuple[str, int]
    nonce: bytes
    until: float
    relay: Any


class Router:
    """Answers requests, and relays for granted mappings."""

    def __init__(self, outside: str, told: IPv4Address, speaks: set[str], lifetime_s: int) -> None:
        self._outside, self._told, self._speaks = outside, told, speaks
        self._lifetime_s = lifetime_s
        self._began = time.monotonic()
        # By protocol ("tcp", "udp") and outside port.
        self._held: dict[tuple[str, int], Held] = {}

    @property
    def epoch_s(self) -> int:
        return int(time.monotonic() - self._began)

    async def answer(self, data: bytes, asker: str) -> bytes | None:
        """The answer to one datagram; None for anything but a request."""
        try:
            if data[:1] == bytes([pcp.VERSION]) and "pcp" in self._speaks:
                return pcp.encode_response(await self._pcp(pcp.decode_request(data), asker))
            if data[:1] == bytes([nat_pmp.VERSION]) and "nat-pmp" in self._speaks:
                return nat_pmp.encode_response(await self._nat_pmp(nat_pmp.decode_request(data), asker))
            if data[:1] and "nat-pmp" in self._speaks:
                unsupported = nat_pmp.Response(nat_pmp.OUTSIDE_ADDRESS, nat_pmp.UNSUPPORTED_VERSION, self.epoch_s)
                return nat_pmp.encode_response(unsupported)
        except PeerError:
            pass
        return None

    async def _pcp(self, r: pcp.Request, asker: str) -> pcp.Response:
        if str(r.client) != asker:
            return pcp.Response(pcp.ADDRESS_MISMATCH, 0, self.epoch_s, r.map)
        if r.map is None:
            return pcp.Response(pcp.SUCCESS, 0, self.epoch_s)
        protocol = {pcp.TCP: "tcp", pcp.UDP: "udp"}.get(r.map.protocol)
        if r.third_party or protocol is None:
            result = pcp.UNSUPPORTED_OPTION if r.third_party else pcp.UNSUPPORTED_PROTOCOL
            return pcp.Response(result, 60, self.epoch_s, r.map)
        to = (asker, r.map.internal_port)
        port = await self._map(protocol, to, r.map.external_port, r.lifetime_s, r.map.nonce)
        if port is None:
            return pcp.Response(pcp.NO_RESOURCES, 60, self.epoch_s, r.map)
        given = r.map._replace(external_port=port, external_address=self._told)
        return pcp.Response(pcp.SUCCESS, min(r.lifetime_s, self._lifetime_s), self.epoch_s, given)

    async def _nat_pmp(self, r: nat_pmp.Request, asker: str) -> nat_pmp.Response:
        if r.opcode == nat_pmp.OUTSIDE_ADDRESS:
            return nat_pmp.Response(r.opcode, nat_pmp.SUCCESS, self.epoch_s, self._told)
        protocol, to = "tcp" if r.opcode == nat_pmp.MAP_TCP else "udp", (asker, r.internal_port)
        port = await self._map(protocol, to, r.external_port, r.lifetime_s, b"")
        if port is None:
            return nat_pmp.Response(r.opcode, nat_pmp.NO_RESOURCES, self.epoch_s)
        lasts = min(r.lifetime_s, self._lifetime_s)
        return nat_pmp.Response(r.opcode, nat_pmp.SUCCESS, self.epoch_s, None, r.internal_port, port, lasts)

    async def _map(self, protocol: str, to: tuple[str, int], wish: int, lifetime_s: int, nonce: bytes) -> int | None:
        """Grant, renew or (lifetime 0) delete a mapping; returns its outside port, 0 for a deleted one, None if there
        is no room."""
        self.forget_old()
        mine = next((k for k, held in self._held.items() if k[0] == protocol and held.to == to), None)
        if lifetime_s == 0:
            if mine and self._held[mine].nonce == nonce:
                self._held.pop(mine).relay.close()
            return 0
        until = time.monotonic() + min(lifetime_s, self._lifetime_s)
        if mine:
            self._held[mine] = self._held[mine]._replace(until=until)
            return mine[1]
        for port in range(max(wish, 1024), min(max(wish, 1024) + 200, 65536)) if len(self._held) < MOST else ():
            if (protocol, port) in self._held:
                continue
            with contextlib.suppress(OSError):
                relay = await self._relay(protocol, port, to)
                self._held[protocol, port] = Held(to, nonce, until, relay)
                return port
        return None

    def forget_old(self) -> None:
        """Close expired mappings."""
        now = time.monotonic()
        for key in [k for k, held in self._held.items() if held.until < now]:
            self._held.pop(key).relay.close()

    async def _relay(self, protocol: str, port: int, to: tuple[str, int]) -> Any:
        if protocol == "udp":
            loop = asyncio.get_running_loop()
            relay, _ = await loop.create_datagram_endpoint(lambda: _UdpRelay(to), (self._outside, port))
            return relay

        async def enter(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
            try:
                inner = await asyncio.open_connection(*to)
            except OSError:
                writer.transport.abort()
                return
            await asyncio.gather(_pour(reader, inner[1]), _pour(inner[0], writer))

        return await asyncio.start_server(enter, self._outside, port)


async def _pour(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
    """Copy everything from one end to the other."""
    with contextlib.suppress(OSError):
        while data := await reader.read(65536):
            writer.write(data)
            await writer.drain()
    with contextlib.suppress(OSError):
        if writer.can_write_eof():
            writer.write_eof()
        else:
            writer.close()


# Pending tasks: one without a reference may be garbage-collected.
_under_way: set[asyncio.Task[None]] = set()


def _begin(work: Coroutine[Any, Any, None]) -> None:
    task = asyncio.ensure_future(work)
    _under_way.add(task)
    task.add_done_callback(_under_way.discard)


class _UdpRelay(asyncio.DatagramProtocol):
    """One outside UDP port: each peer outside has a socket of its own inside, for the replies."""

    def __init__(self, to: tuple[str, int]) -> None:
        self._to = to
        self._inner: dict[Any, asyncio.DatagramTransport] = {}
        self._heard: dict[Any, float] = {}

    def connection_made(self, transport: Any) -> None:
        self._outer = transport

    def datagram_received(self, data: bytes, peer: Any) -> None:
        _begin(self._pass_on(data, peer))

    async def _pass_on(self, data: bytes, peer: Any) -> None:
        loop = asyncio.get_running_loop()
        self._heard[peer] = loop.time()
        if peer not in self._inner:
            outer, heard = self._outer, self._heard

            class Back(asyncio.DatagramProtocol):
                def datagram_received(self, answer: bytes, _: Any) -> None:
                    heard[peer] = loop.time()
                    outer.sendto(answer, peer)

            self._inner[peer], _ = await loop.create_datagram_endpoint(Back, remote_addr=self._to)
            loop.call_later(UDP_IDLE_S, self._forget_when_silent, peer)
        self._inner[peer].sendto(data)

    def _forget_when_silent(self, peer: Any) -> None:
        """A peer expires when neither side has sent anything for a while (RFC 4787 section 4.3)."""
        loop = asyncio.get_running_loop()
        left = self._heard[peer] + UDP_IDLE_S - loop.time()
        if left > 0:
            loop.call_later(left, self._forget_when_silent, peer)
        else:
            self._heard.pop(peer)
            self._inner.pop(peer).close()


class _Asked(asyncio.DatagramProtocol):
    """The port on which the router accepts requests."""

    def __init__(self, router: Router) -> None:
        self._router = router

    def connection_made(self, transport: Any) -> None:
        self._transport = transport

    def datagram_received(self, data: bytes, peer: Any) -> None:
        _begin(self._say(data, peer))

    async def _say(self, data: bytes, peer: Any) -> None:
        answer = await self._router.answer(data, peer[0])
        if answer:
            self._transport.sendto(answer, peer)


async def serve(router: Router, inside: str) -> None:
    """Serve on `inside` until SIGTERM or SIGINT."""
    loop, ending = asyncio.get_running_loop(), asyncio.Event()
    for number in (signal.SIGTERM, signal.SIGINT):
        loop.add_signal_handler(number, ending.set)
    asked, _ = await loop.create_datagram_endpoint(lambda: _Asked(router), (inside, pcp.SERVER_PORT))
    if not IPv4Address(inside).is_loopback:
        # Clients of an earlier run learn that their mappings are lost (RFC 6887 section 14.1.1).
        link: socket.socket = asked.get_extra_info("socket")
        link.setsockopt(socket.IPPROTO_IP, socket.IP_MULTICAST_IF, socket.inet_aton(inside))
        asked.sendto(pcp.encode_response(pcp.Response(pcp.SUCCESS, 0, 0)), ("224.0.0.1", pcp.CLIENT_PORT))
    sys.stdout.write("the simulated router is running\n")
    sys.stdout.flush()
    while not ending.is_set():
        with contextlib.suppress(TimeoutError):
            await asyncio.wait_for(ending.wait(), 1.0)
        router.forget_old()


def _protocols(text: str) -> set[str]:
    found = set(text.split(","))
    if found - {"pcp", "nat-pmp"}:
        raise argparse.ArgumentTypeError(f"{text}: write pcp, nat-pmp, or both with a comma between")
    return found


def main() -> None:
    """Run a router."""
    parser = argparse.ArgumentParser(prog="python -m dacha.demo.router", description=__doc__.split("\n\n")[0])
    address: dict[str, Any] = {"metavar": "ADDRESS", "type": IPv4Address}
    parser.add_argument("--inside", required=True, help="address on the LAN that accepts requests", **address)
    parser.add_argument("--outside", required=True, help="outside address that accepts connections", **address)
    parser.add_argument(
        "--told", help="outside address that it reports (default: the one that accepts connections)", **address
    )
    parser.add_argument(
        "--speaks", metavar="LIST", type=_protocols, default="pcp,nat-pmp", help="protocols that it supports"
    )
    parser.add_argument("--lifetime", metavar="SECONDS", type=int, default=LONGEST_S, help="of a mapping, at most")
    args = parser.parse_args()
    router = Router(str(args.outside), args.told or args.outside, args.speaks, args.lifetime)
    try:
        asyncio.run(serve(router, str(args.inside)))
    except OSError as e:
        parser.error(f"cannot answer at {args.inside}, port {pcp.SERVER_PORT}: {e.strerror or e}")


if __name__ == "__main__":
    main()
