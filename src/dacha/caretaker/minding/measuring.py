"""Measure what guests use, at the interval of the lab file, and serve the present measurements to a collector."""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import Callable

from dacha.core.errors import DachaError
from dacha.core.lab.measuring import Measuring as Wanted
from dacha.engine.caretaker.attempts import attempt
from dacha.engine.usage.exposition import exposition
from dacha.engine.usage.history import store
from dacha.engine.workspace import Workspace
from dacha.formats.metrics.open_metrics import CONTENT_TYPE

# A collector may take this long for its request (seconds), which is not longer than this (bytes).
REQUEST_S, REQUEST_MOST = 5.0, 8192
# Collectors that are served at the same time.
AT_ONCE = 4
# A port that is in use is tried again after this time (seconds).
AGAIN_S = 30.0


class Measuring:
    """Measures one lab from the first `renew` until `close`."""

    def __init__(self, log: Callable[[str], None]) -> None:
        self._log = log
        self._wanted: Wanted | None = None
        self._tasks: list[asyncio.Task[None]] = []
        self._serving = 0

    def renew(self, ws: Workspace) -> None:
        """The lab as it is now."""
        self._ws = ws
        if ws.lab.usage == self._wanted:
            return
        self.close()
        self._wanted = wanted = ws.lab.usage
        if wanted:
            self._tasks = [asyncio.ensure_future(self._measure(wanted))]
            if wanted.port:
                self._tasks.append(asyncio.ensure_future(self._serve(wanted.port)))

    def close(self) -> None:
        for task in self._tasks:
            task.cancel()
        self._tasks = []

    async def _measure(self, wanted: Wanted) -> None:
        while True:
            with attempt(self._log, "cannot store what guests use"):
                await asyncio.to_thread(store, self._ws, wanted.keep_s)
            await asyncio.sleep(wanted.every_s)

    async def _serve(self, port: int) -> None:
        """Answer collectors on this host's loopback only."""
        while True:
            try:
                server = await asyncio.start_server(self._answer, "127.0.0.1", port, limit=REQUEST_MOST)
            except OSError as e:
                self._log(f"cannot serve measurements on port {port}: {e.strerror or e}")
                await asyncio.sleep(AGAIN_S)
                continue
            async with server:
                await server.serve_forever()

    async def _answer(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        """One request of HTTP/1.1 (RFC 9112), without looking at more of it than its first line."""
        self._serving += 1
        try:
            async with asyncio.timeout(REQUEST_S):
                head = await reader.readuntil(b"\r\n\r\n")
                writer.write(await self._response(head.split(b"\r\n", 1)[0].split(b" ")))
                await writer.drain()
        except (OSError, asyncio.IncompleteReadError, asyncio.LimitOverrunError, TimeoutError):
            pass
        finally:
            self._serving -= 1
            writer.close()
            with contextlib.suppress(OSError):
                await writer.wait_closed()

    async def _response(self, words: list[bytes]) -> bytes:
        if len(words) != 3 or words[0] not in (b"GET", b"HEAD"):
            return _message("405 Method Not Allowed", "only GET is supported\n")
        if words[1].split(b"?")[0] not in (b"/", b"/metrics"):
            return _message("404 Not Found", "the measurements are at /metrics\n")
        if self._serving > AT_ONCE:
            return _message("503 Service Unavailable", "too many requests at the same time\n")
        try:
            text = await asyncio.to_thread(exposition, self._ws)
        except (DachaError, OSError) as e:
            return _message("500 Internal Server Error", f"cannot measure: {e}\n")
        return _message("200 OK", text, CONTENT_TYPE, body=words[0] == b"GET")


def _message(status: str, text: str, kind: str = "text/plain; charset=utf-8", *, body: bool = True) -> bytes:
    data = text.encode()
    head = f"HTTP/1.1 {status}\r\nContent-Type: {kind}\r\nContent-Length: {len(data)}\r\nConnection: close\r\n\r\n"
    return head.encode() + (data if body else b"")
