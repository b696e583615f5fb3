"""Access from outside: the caretaker renews the port mappings while their doors exist."""

from __future__ import annotations

import asyncio
import contextlib
import socket
import time
from collections.abc import Callable

from dacha.core.router.mapping import AGAIN_S, RouterState, next_look
from dacha.engine.caretaker.attempts import attempt
from dacha.engine.router import mappings
from dacha.engine.workspace import Workspace
from dacha.wire.router.pcp import CLIENT_PORT

# Every host is a member of this group (RFC 1112 section 4): joining is not needed.
ALL_HOSTS = "224.0.0.1"
# The minimum interval of requests to a router that keeps announcing itself.
LEAST_S = 0.5


class Outside:
    """Keeps one lab's mappings until `close`."""

    def __init__(self, ws: Workspace, log: Callable[[str], None]) -> None:
        self._ws, self._log = ws, log
        self._known = mappings.read(ws.home)
        self._woken = asyncio.Event()
        self._heard = _listener()
        if self._heard:
            asyncio.get_running_loop().add_reader(self._heard, self._hear)
        self._task = asyncio.ensure_future(self._keep())

    def close(self) -> None:
        self._task.cancel()
        if self._heard:
            asyncio.get_running_loop().remove_reader(self._heard)
            self._heard.close()

    def _hear(self) -> None:
        """A router announces a restart or another outside address (RFC 6887 section 14.1.1, RFC 6886 section 3.2.1).
        The announcement is not trusted, but a reason for a request."""
        assert self._heard is not None
        with contextlib.suppress(OSError):
            _, (sender, _) = self._heard.recvfrom(1500)
            if sender == self._known.router:
                self._woken.set()

    async def _keep(self) -> None:
        while True:
            self._woken.clear()
            wait = AGAIN_S
            with attempt(self._log, "cannot send requests to the router"):
                known = await asyncio.to_thread(mappings.keep, self._ws)
                for line in _news(self._known, known):
                    self._log(line)
                self._known, wait = known, next_look(known, time.time())
            await asyncio.sleep(LEAST_S)
            with contextlib.suppress(TimeoutError):
                await asyncio.wait_for(self._woken.wait(), max(0.0, wait - LEAST_S))


def _listener() -> socket.socket | None:
    """A socket that receives routers' announcements; None if it is not available: then changes are noticed later."""
    s = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    try:
        s.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        s.bind((ALL_HOSTS, CLIENT_PORT))
    except OSError:
        s.close()
        return None
    s.setblocking(False)
    return s


def _news(before: RouterState, now: RouterState) -> list[str]:
    """The changes, for the log."""
    lines = []
    if now.trouble and now.trouble != before.trouble:
        lines.append(f"the router {now.router}: {now.trouble}")
    old = {(m.wanted, m.outside_port) for m in before.mappings}
    for m in now.mappings:
        if (m.wanted, m.outside_port) not in old or now.address != before.address:
            place = f"{now.address or 'outside'}:{m.outside_port}"
            lines.append(f"door {m.wanted.guest} {m.wanted.door}: the router forwards {place} ({m.speaks})")
    for guest, door, why in now.refused:
        if (guest, door, why) not in before.refused:
            lines.append(f"door {guest} {door}: the router refuses: {why}")
    return lines
