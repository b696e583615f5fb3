"""The name server of one network. Its answers about the lab are in `wire.dns.zone`, the checks of other servers'
answers in `wire.dns.upstream`."""

from __future__ import annotations

import asyncio
import contextlib
import secrets
import socket
import time
from collections import Counter
from collections.abc import Iterable, Mapping
from ipaddress import ip_address
from typing import Any

import dns.rcode

from dacha.wire.dns import upstream
from dacha.wire.dns.cache import Cache
from dacha.wire.dns.zone import QUERY_MOST, Subnet, Zone, failure

# How long a resolver of the host may take before the next is queried; how long a TCP client may be idle (seconds).
UPSTREAM_S, TCP_IDLE_S = 2.0, 10.0
# The maximum of pending queries to other servers, in total and per guest; more are dropped, as clients repeat them.
WAITING_MOST, EACH_MOST, TCP_MOST, TCP_EACH_MOST, BURST = 1_000, 100, 100, 10, 64


class DnsService:
    """Answers on some addresses of one bridge until `close`. Each network has a cache of its own."""

    def __init__(self, zone: Zone, admitted: Iterable[Subnet], *, forward: bool) -> None:
        """Sources in `admitted` may query names outside the lab; with `forward` these queries are forwarded."""
        self._cache, self._admitted = Cache(), list(admitted)
        self._zone = zone.seen_from(self._admitted)
        self._forward = forward
        self.resolvers: tuple[str, ...] = ()
        self._sockets: list[socket.socket] = []
        self._servers: list[asyncio.Server] = []
        self._tasks: set[asyncio.Task[None]] = set()
        self._asking: dict[tuple[bytes, bool], asyncio.Task[bytes]] = {}
        self._waiting: Counter[str] = Counter()
        self._connections: Counter[str] = Counter()

    def serve(self, zone: Zone) -> None:
        """Use these names from now on."""
        self._zone = zone.seen_from(self._admitted)

    async def listen(self, sockets: Mapping[str, socket.socket]) -> None:
        """Listen on these sockets: "udp ADDRESS" and "tcp ADDRESS"."""
        for what, s in sockets.items():
            if what.startswith("udp "):
                self._sockets.append(s)
                asyncio.get_running_loop().add_reader(s, self._readable, s)
            elif what.startswith("tcp "):
                self._servers.append(await asyncio.start_server(self._serve_tcp, sock=s))

    def close(self) -> None:
        for server in self._servers:
            server.close()
        for s in self._sockets:
            asyncio.get_running_loop().remove_reader(s)
            s.close()
        for task in self._tasks:
            task.cancel()

    def _may_ask(self, client: str) -> bool:
        address = ip_address(client.partition("%")[0])
        return any(address.version == s.version and address in s for s in self._admitted)

    def _about_lab(self, query: bytes, *, udp: bool) -> bytes | None:
        """The answer from the lab alone; b"" for none; None if another server must be queried."""
        said = self._zone.answer(query, udp=udp)
        return failure(query, dns.rcode.REFUSED) if said is None and not self._forward else said

    def _readable(self, s: socket.socket) -> None:
        receive, send = s.recvfrom, s.sendto
        for _ in range(BURST):
            try:
                query, client = receive(QUERY_MOST + 1)
            except OSError:
                return
            said = self._about_lab(query, udp=True)
            if said:
                with contextlib.suppress(OSError):
                    send(said, client)
            elif said is None and self._may_ask(client[0]):
                self._later(s, query, client)

    def _later(self, s: socket.socket, query: bytes, client: tuple[Any, ...]) -> None:
        if len(self._tasks) >= WAITING_MOST or self._waiting[client[0]] >= EACH_MOST:
            return
        self._waiting[client[0]] += 1
        task = asyncio.ensure_future(self._answer_by_others(s, query, client))
        self._tasks.add(task)

        def done(ended: asyncio.Task[None]) -> None:
            self._tasks.discard(ended)
            self._waiting[client[0]] -= 1
            if self._waiting[client[0]] <= 0:
                del self._waiting[client[0]]

        task.add_done_callback(done)

    async def _answer_by_others(self, s: socket.socket, query: bytes, client: tuple[object, ...]) -> None:
        said = await self._ask_others(query, udp=True)
        if said:
            with contextlib.suppress(OSError):
                s.sendto(said, client)

    async def _ask_others(self, query: bytes, *, udp: bool) -> bytes:
        """The answer of the host's resolvers, from the cache or by a query; SERVFAIL if none answers. Identical pending
        queries are merged."""
        kept = self._cache.find(query, time.monotonic(), udp=udp)
        if kept is not None:
            return kept
        key = (upstream.key_of(query), udp)
        asking = self._asking.get(key)
        if asking is None:
            asking = self._asking[key] = asyncio.ensure_future(self._ask_each(query, udp=udp))
            asking.add_done_callback(lambda _: self._asking.pop(key, None))
        said = await asyncio.shield(asking)
        return upstream.for_asker(query, said) if said else failure(query)

    async def _ask_each(self, query: bytes, *, udp: bool) -> bytes:
        """The answer of the first of the host's resolvers that has one; if all fail, the first failure; b"" if none
        answers."""
        unable = b""
        for resolver in self.resolvers[:3]:
            try:
                said = await asyncio.wait_for(_ask(resolver, query, udp=udp), UPSTREAM_S)
            except (OSError, TimeoutError, asyncio.IncompleteReadError):
                continue
            if said and upstream.failed(said):
                unable = unable or said
                continue
            if not said or upstream.leads_inside(said):
                return b""
            self._cache.keep(query, upstream.for_asker(query, said), time.monotonic())
            return said
        return unable

    async def _serve_tcp(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        """Serve one TCP client: queries with length prefixes, answered in order (RFC 7766)."""
        peer = str(writer.get_extra_info("peername")[0])
        self._connections[peer] += 1
        try:
            while self._connections.total() <= TCP_MOST and self._connections[peer] <= TCP_EACH_MOST:
                length = int.from_bytes(await asyncio.wait_for(reader.readexactly(2), TCP_IDLE_S), "big")
                if length > QUERY_MOST:
                    break
                query = await asyncio.wait_for(reader.readexactly(length), TCP_IDLE_S)
                said = self._about_lab(query, udp=False)
                if said is None and self._may_ask(peer):
                    said = await self._ask_others(query, udp=False)
                if not said:
                    break
                writer.write(len(said).to_bytes(2, "big") + said)
                await asyncio.wait_for(writer.drain(), TCP_IDLE_S)
        except (OSError, TimeoutError, asyncio.IncompleteReadError):
            pass
        finally:
            self._connections[peer] -= 1
            if self._connections[peer] <= 0:
                del self._connections[peer]
            writer.close()


async def _ask(resolver: str, query: bytes, *, udp: bool) -> bytes:
    """One resolver's answer, accepted only if it repeats all random values; b"" for an invalid query. Some resolvers
    answer in lower case, and so would a blind forger: such an answer is accepted if a second query, with another ID
    from another port, gets one, too."""
    lowered = False
    while (mine := upstream.asked_anew(query, secrets.token_bytes(2), secrets.randbits(256))) is not None:
        said = await (_by_udp(resolver, mine) if udp else _by_tcp(resolver, mine))
        # Over TCP, only the queried server can answer (RFC 5452 section 9).
        if upstream.believed(mine, said) or lowered or not udp:
            return said
        lowered = True
    return b""


async def _by_udp(resolver: str, mine: bytes) -> bytes:
    with await _connected(resolver, socket.SOCK_DGRAM) as s:
        loop = asyncio.get_running_loop()
        await loop.sock_sendall(s, mine)
        while True:
            said = await loop.sock_recv(s, 65535)
            if upstream.believed_but_case(mine, said):
                return said


async def _by_tcp(resolver: str, mine: bytes) -> bytes:
    reader, writer = await asyncio.open_connection(sock=await _connected(resolver, socket.SOCK_STREAM))
    try:
        writer.write(len(mine).to_bytes(2, "big") + mine)
        said = await reader.readexactly(int.from_bytes(await reader.readexactly(2), "big"))
        return said if upstream.believed_but_case(mine, said) else b""
    finally:
        writer.close()


async def _connected(resolver: str, kind: int) -> socket.socket:
    """A socket connected to a resolver; a link-local address contains its link's index."""
    address, _, link = resolver.partition("%")
    s = socket.socket(socket.AF_INET6 if ":" in address else socket.AF_INET, kind)
    try:
        s.setblocking(False)
        place = (address, 53, 0, int(link or 0)) if ":" in address else (address, 53)
        await asyncio.get_running_loop().sock_connect(s, place)
    except BaseException:
        s.close()
        raise
    return s
