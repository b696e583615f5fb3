"""A guest's screen in a browser: a page on this host's loopback, opened by a one-time token, which ends with its last
viewer.

The picture is drawn by a VNC client for browsers that this host has (`client_folder`). The page gives its tab a secret,
which stays in that tab (sessionStorage, by scheme, host and port): a cookie would be sent to every other server on
127.0.0.1, too, because cookies ignore ports (RFC 6265 section 8.5).
"""

from __future__ import annotations

import asyncio
import contextlib
import json
import mimetypes
import os
import secrets
import time
from collections.abc import Callable
from html import escape
from http import HTTPStatus
from importlib.resources import files
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

from dacha.core.errors import DachaError, HostError
from dacha.host import folders
from dacha.host.unix_socket import connect_to_guest

# How long an unopened page is served; how long a reload may take (seconds).
UNOPENED_S, GONE_S = 300.0, 5.0
# The folder of Debian's package; another one can be set.
PLACES = ("/usr/share/novnc", "/usr/local/share/novnc")


def client_folder() -> Path:
    """The folder of the VNC client for browsers. Raises HostError if it is not installed."""
    named = os.environ.get("DACHA_VNC_CLIENT")
    for folder in [folders.expand(named)] if named else map(Path, PLACES):
        if (folder / "core/rfb.js").is_file():
            return folder
    raise HostError(
        "no VNC client for browsers is installed",
        where=named or "",
        remedy="on Debian: apt install novnc, or DACHA_VNC_CLIENT=FOLDER with its core/rfb.js",
    )


class BrowserScreen:
    """Serves one guest's screen until `run` returns."""

    def __init__(self, guest: str, screen: Path, password: str, client: Path) -> None:
        """`screen` is the guest's VNC socket, `password` its password."""
        self._guest, self._screen, self._password = guest, screen, password
        self._client = client.resolve()
        self._token: str | None = secrets.token_urlsafe(24)
        self._secret = secrets.token_urlsafe(24)
        self._viewers = 0
        self._since = time.monotonic() + UNOPENED_S - GONE_S
        self._host = ""

    async def run(self, port: int, ready: Callable[[str], None]) -> None:
        """Serve on loopback at `port` (0: a free one); `ready` is called with the URL to open. Raises HostError."""
        from websockets.asyncio.server import serve

        try:
            server = await serve(
                self._view, "127.0.0.1", port, process_request=self._answer, max_size=1 << 22, compression=None
            )
        except OSError as e:
            raise HostError(f"port {port} of this host is not available", why=e.strerror or str(e)) from e
        async with server:
            address, bound = server.sockets[0].getsockname()[:2]
            self._host = f"{address}:{bound}"
            ready(f"http://{self._host}/{self._token}")
            while self._viewers or time.monotonic() - self._since < GONE_S:
                await asyncio.sleep(0.5)

    def _answer(self, connection: Any, request: Any) -> Any:
        """The answer to a request; None accepts a viewer's connection."""
        path = urlsplit(request.path).path
        # A page on another name that resolves to this host is refused (DNS rebinding).
        if request.headers.get("Host") not in (self._host, self._host.replace("127.0.0.1", "localhost")):
            return connection.respond(HTTPStatus.FORBIDDEN, "not found\n")
        if self._token and secrets.compare_digest(path.encode(), f"/{self._token}".encode()):
            self._token = None
            return self._page(connection, self._secret)
        if path == "/":
            return self._page(connection, "")
        if path == "/screen" and not self._knows(urlsplit(request.path).query):
            return connection.respond(
                HTTPStatus.FORBIDDEN, "This address works once: dacha screen --browser prints a new one.\n"
            )
        if path == "/screen":
            own = request.headers.get("Origin") == f"http://{request.headers['Host']}"
            return None if own else self._no(connection)
        if path == "/told":
            if not self._knows(request.headers.get("X-Secret", "")):
                return self._no(connection)
            told = {"guest": self._guest, "password": self._password}
            return self._body(connection, json.dumps(told).encode(), "application/json")
        return self._file(connection, path)

    def _knows(self, secret: str) -> bool:
        return secrets.compare_digest(secret.encode(), self._secret.encode())

    def _no(self, connection: Any) -> Any:
        return connection.respond(HTTPStatus.NOT_FOUND, "not found\n")

    def _page(self, connection: Any, secret: str) -> Any:
        """The page: with the secret for the holder of the token, else unchanged for a tab that has the secret."""
        nonce = secrets.token_urlsafe(12)
        text = files("dacha.engine.screen").joinpath("screen.html").read_text()
        for mark, value in (("@NONCE@", nonce), ("@SECRET@", secret)):
            text = text.replace(mark, escape(value))
        reply = self._body(connection, text.encode(), "text/html; charset=utf-8")
        local = f"ws://{self._host} ws://{self._host.replace('127.0.0.1', 'localhost')}"
        reply.headers["Content-Security-Policy"] = (
            f"default-src 'none'; script-src 'self' 'nonce-{nonce}'; style-src 'self' 'nonce-{nonce}'; "
            f"connect-src 'self' {local}; img-src 'self' data: blob:"
        )
        return reply

    def _file(self, connection: Any, path: str) -> Any:
        """A file of the client, from its code folders only."""
        inner = path.removeprefix("/client/")
        found = Path(os.path.realpath(self._client / inner))
        beneath = any(found.is_relative_to(self._client / folder) for folder in ("core", "vendor"))
        if not path.startswith("/client/") or not beneath or not found.is_file():
            return self._no(connection)
        kind = "text/javascript" if found.suffix == ".js" else mimetypes.guess_type(found.name)[0] or "text/plain"
        return self._body(connection, found.read_bytes(), kind)

    def _body(self, connection: Any, body: bytes, kind: str) -> Any:
        reply = connection.respond(HTTPStatus.OK, "")
        reply.body = body
        for name, value in (("Content-Type", kind), ("Content-Length", str(len(body))), ("Cache-Control", "no-store")):
            if name in reply.headers:
                del reply.headers[name]
            reply.headers[name] = value
        return reply

    async def _view(self, viewer: Any) -> None:
        """One viewer: its data goes to the guest's display, and back."""
        self._viewers += 1
        try:
            reader, writer = await asyncio.open_connection(sock=connect_to_guest(self._screen, 5.0))
            try:
                await self._pass_on(viewer, reader, writer)
            finally:
                writer.close()
        except (OSError, DachaError):
            await viewer.close(1011, "the display does not respond")
        finally:
            self._viewers -= 1
            self._since = time.monotonic()

    async def _pass_on(self, viewer: Any, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        async def there() -> None:
            async for message in viewer:
                writer.write(message if isinstance(message, bytes) else message.encode())
                await writer.drain()

        async def back() -> None:
            while data := await reader.read(1 << 16):
                await viewer.send(data)

        ways = [asyncio.ensure_future(way()) for way in (there, back)]
        try:
            await asyncio.wait(ways, return_when=asyncio.FIRST_COMPLETED)
        finally:
            for way in ways:
                way.cancel()
            for way in ways:
                with contextlib.suppress(asyncio.CancelledError, OSError, Exception):
                    await way
            await viewer.close()
