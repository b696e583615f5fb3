"""The sockets of a lab's name server. What it says about the lab is decided in `wire.dns_zone`."""

from __future__ import annotations

import asyncio
import contextlib
import secrets
import socket
import time
from collections.abc import Coroutine, Iterable
from ipaddress import ip_address
from pathlib import Path
from typing import Any

import dns.rcode

from dacha.caretaker.sockets import roomy
from dacha.wire.dns_cache import Cache
from dacha.wire.dns_zone import Subnet, Zone, failure

# A resolver of the host is given this long before the next is asked; a client over TCP may be silent this long.
UPSTREAM_S, TCP_IDLE_S = 2.0, 10.0
# Questions that wait for other servers at once; more are dropped, as their clients ask again.
WAITING_MOST, TCP_MOST, BURST = 1_000, 100, 256


def host_resolvers(path: Path = Path("/etc/resolv.conf")) -> list[str]:
    """The name servers that this host asks (resolv.conf(5))."""
    try:
        lines = path.read_text(errors="replace").splitlines()
    except OSError:
        return []
    words = (line.split() for line in lines)
    return [w[1].partition("%")[0] for w in words if len(w) > 1 and w[0] == "nameserver"]


class DnsService:
    """Answers on some addresses of one bridge until `close`."""

    def __init__(self, zone: Zone, cache: Cache, admitted: Iterable[Subnet], *, forward: bool = True) -> None:
        self._zone, self._cache, self._admitted = zone, cache, list(admitted)
        self._forward = forward
        self._sockets: list[socket.socket] = []
        self._servers: list[asyncio.Server] = []
        self._tasks: set[asyncio.Task[None]] = set()
        self._connections = 0

    def serve(self, zone: Zone) -> None:
        """Answer for these names from now on."""
        self._zone = zone

    async def listen(self, interface: str, address: str) -> None:
        """Answer on one address, by UDP and TCP. Raises OSError."""
        family = socket.AF_INET6 if ":" in address else socket.AF_INET
        for kind in (socket.SOCK_DGRAM, socket.SOCK_STREAM):
            s = socket.socket(family, kind | socket.SOCK_NONBLOCK)
            self._sockets.append(s)
            s.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
            # Only what comes over this bridge: the address alone would answer the whole host's neighbours too.
            s.setsockopt(socket.SOL_SOCKET, socket.SO_BINDTODEVICE, interface.encode())
            s.bind((address, 53))
            if kind == socket.SOCK_DGRAM:
                roomy(s)
                asyncio.get_running_loop().add_reader(s, self._readable, s)
            else:
                self._servers.append(await asyncio.start_server(self._serve_tcp, sock=s))

    def close(self) -> None:
        loop = asyncio.get_running_loop()
        for server in self._servers:
            server.close()
        for s in self._sockets:
            if s.type == socket.SOCK_DGRAM:
                loop.remove_reader(s)
            s.close()
        for task in self._tasks:
            task.cancel()

    def _may_ask(self, client: str) -> bool:
        address = ip_address(client.partition("%")[0])
        return any(address.version == s.version and address in s for s in self._admitted)

    def _readable(self, s: socket.socket) -> None:
        answer, receive, send = self._zone.answer, s.recvfrom, s.sendto
        for _ in range(BURST):
            try:
                query, client = receive(4096)
            except OSError:
                return
            said = answer(query)
            if said is None and not self._forward:
                said = failure(query, dns.rcode.REFUSED)
            if said is None or not said:
                if said is None and self._may_ask(client[0]) and len(self._tasks) < WAITING_MOST:
                    self._later(self._answer_by_others(s, query, client))
                continue
            with contextlib.suppress(OSError):
                send(said, client)

    def _later(self, work: Coroutine[Any, Any, None]) -> None:
        task = asyncio.ensure_future(work)
        self._tasks.add(task)
        task.add_done_callback(self._tasks.discard)

    async def _answer_by_others(self, s: socket.socket, query: bytes, client: tuple[object, ...]) -> None:
        said = await self._ask_others(query, udp=True)
        if said:
            with contextlib.suppress(OSError):
                s.sendto(said, client)

    async def _ask_others(self, query: bytes, *, udp: bool) -> bytes:
        """The answer of the host's resolvers, kept or asked for; SERVFAIL when none of them answers."""
        kept = self._cache.find(query, time.monotonic(), udp=udp)
        if kept is not None:
            return kept
        for resolver in host_resolvers()[:3]:
            try:
                said = await asyncio.wait_for(_ask(resolver, query, udp=udp), UPSTREAM_S)
            except (OSError, TimeoutError, asyncio.IncompleteReadError):
                continue
            self._cache.keep(query, said, time.monotonic())
            return query[:2] + said[2:]
        return failure(query)

    async def _serve_tcp(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        """One client over TCP: queries with their lengths before them, answered in order (RFC 7766)."""
        self._connections += 1
        try:
            while self._connections <= TCP_MOST:
                length = int.from_bytes(await asyncio.wait_for(reader.readexactly(2), TCP_IDLE_S), "big")
                query = await asyncio.wait_for(reader.readexactly(length), TCP_IDLE_S)
                said = self._zone.answer(query, udp=False)
                if said is None and not self._forward:
                    said = failure(query, dns.rcode.REFUSED)
                if said is None and self._may_ask(writer.get_extra_info("peername")[0]):
                    said = await self._ask_others(query, udp=False)
                if not said:
                    break
                writer.write(len(said).to_bytes(2, "big") + said)
                await writer.drain()
        except (OSError, TimeoutError, asyncio.IncompleteReadError):
            pass
        finally:
            self._connections -= 1
            writer.close()


async def _ask(resolver: str, query: bytes, *, udp: bool) -> bytes:
    """One resolver's answer. The number and the port are drawn afresh, so that nobody can guess them (RFC 5452)."""
    number = secrets.token_bytes(2)
    mine = number + query[2:]
    if not udp:
        reader, writer = await asyncio.open_connection(resolver, 53)
        try:
            writer.write(len(mine).to_bytes(2, "big") + mine)
            return await reader.readexactly(int.from_bytes(await reader.readexactly(2), "big"))
        finally:
            writer.close()
    loop = asyncio.get_running_loop()
    with socket.socket(socket.AF_INET6 if ":" in resolver else socket.AF_INET, socket.SOCK_DGRAM) as s:
        s.setblocking(False)
        await loop.sock_connect(s, (resolver, 53))
        await loop.sock_sendall(s, mine)
        while True:
            said = await loop.sock_recv(s, 65535)
            if len(said) >= 12 and said[:2] == number and said[2] & 0x80:
                return said
