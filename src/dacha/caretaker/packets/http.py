"""The connections of one network's HTTP server, for network boot. The protocol logic is in `wire.http`; the root part
opens the files, because this process cannot."""

from __future__ import annotations

import asyncio
import contextlib
import os
import socket
from collections import Counter
from collections.abc import Callable

from dacha.caretaker.packets.accepting import take_each, take_no_more
from dacha.caretaker.packets.tftp import Fetch
from dacha.wire import http

# The maximum of concurrent connections, in total and per client; how long a client may be idle (seconds).
CONNECTIONS_MOST, EACH_MOST, SILENT_S = 128, 8, 60.0
# Bytes of a file that are read together.
AHEAD = 128 << 10


class HttpService:
    """Serves one network until `close`."""

    def __init__(self, listening: socket.socket, fetch: Fetch, log: Callable[[str], None]) -> None:
        self._fetch, self._log = fetch, log
        self._open: Counter[str] = Counter()
        self._tasks: set[asyncio.Task[None]] = set()
        self._listening = listening
        take_each(listening, self._take)

    def _take(self, connection: socket.socket, peer: str) -> None:
        if self._open.total() >= CONNECTIONS_MOST or self._open[peer] >= EACH_MOST:
            connection.close()
            return
        self._open[peer] += 1
        task = asyncio.ensure_future(self._serve(connection, peer))
        self._tasks.add(task)
        task.add_done_callback(self._tasks.discard)

    async def _serve(self, connection: socket.socket, peer: str) -> None:
        connection.setblocking(False)
        try:
            with connection, contextlib.suppress(OSError, TimeoutError):
                reader, writer = await asyncio.open_connection(sock=connection, limit=http.HEAD_MOST)
                while await self._one(reader, writer, peer):
                    pass
                writer.close()
        finally:
            self._open[peer] -= 1

    async def _one(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter, peer: str) -> bool:
        """One request and its answer; False if the connection ends with it."""
        try:
            async with asyncio.timeout(SILENT_S):
                request = http.decode_request(await reader.readuntil(b"\r\n\r\n"))
        except asyncio.IncompleteReadError:
            return False
        except asyncio.LimitOverrunError:
            return await self._say(writer, http.refusal(431), goes_on=False)
        except http.Refused as e:
            return await self._say(writer, http.refusal(e.status, size=e.size), goes_on=False)
        found = await self._opened(request.path, peer)
        if found is None:
            self._log(f"{peer} requested {request.path[:100]}, which is not a boot file")
            return await self._say(writer, http.refusal(404, goes_on=request.goes_on), goes_on=request.goes_on)
        file, size = found
        try:
            at, length = http.part(request, size)
            await self._say(writer, http.answer(request, size), goes_on=True)
            while length and not request.head:
                block = os.pread(file, min(AHEAD, length), at)
                if not block:
                    return False  # the file was truncated meanwhile: the client notices the missing part
                await self._say(writer, block, goes_on=True)
                at, length = at + len(block), length - len(block)
        except http.Refused as e:
            return await self._say(writer, http.refusal(e.status, size=e.size), goes_on=False)
        finally:
            os.close(file)
        if not request.head:
            self._log(f"{request.path[:100]} was sent over HTTP ({peer})")
        return request.goes_on

    async def _opened(self, path: str, peer: str) -> tuple[int, int] | None:
        asked: asyncio.Future[tuple[int, int] | None] = asyncio.get_running_loop().create_future()

        def opened(found: tuple[int, int] | None) -> None:
            if asked.done():
                if found:
                    os.close(found[0])  # the client has disconnected
                return
            asked.set_result(found)

        self._fetch(path, peer, opened)
        return await asked

    @staticmethod
    async def _say(writer: asyncio.StreamWriter, data: bytes, *, goes_on: bool) -> bool:
        async with asyncio.timeout(SILENT_S):
            writer.write(data)
            await writer.drain()
        return goes_on

    def close(self) -> None:
        take_no_more(self._listening)
        for task in self._tasks:
            task.cancel()
