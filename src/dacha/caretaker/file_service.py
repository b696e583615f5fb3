"""SMB shares: each connection of a guest gets a server of its own, which sees only this guest's folders.

No data of guests is read here: the client's address identifies the guest (the rules prevent spoofing), and the
connection is passed to a process that can only serve that guest.
"""

from __future__ import annotations

import asyncio
import contextlib
import json
import socket
import sys
from collections import Counter
from collections.abc import Callable
from functools import partial

from dacha.caretaker.packets.accepting import take_each, take_no_more
from dacha.caretaker.sockets import connections
from dacha.core.lab.model import Guest
from dacha.core.network.links import KernelPlan
from dacha.core.plan.plan import Plan
from dacha.core.plan.smb import PORT, smb_places
from dacha.engine.caretaker.attempts import attempt
from dacha.engine.shares.smb import server_for
from dacha.engine.workspace import Workspace
from dacha.hypervisor.beside import smb_server

# The maximum of concurrent connections per guest: a system opens one or two.
MOST = 8
# The maximum of servers started for one guest within so many seconds.
STARTS_MOST, STARTS_S = 30, 10.0
# TCP keep-alive: idle time, interval (seconds), and number of probes (tcp(7)).
_KEEP_ALIVE = ((socket.TCP_KEEPIDLE, 60), (socket.TCP_KEEPINTVL, 10), (socket.TCP_KEEPCNT, 3))
_Place = tuple[str, str]


class FileService:
    """Listens at the addresses of the guests' shares; `renew` adapts it to the lab."""

    def __init__(self, say: Callable[..., None]) -> None:
        self._say = say
        self._sockets: dict[_Place, socket.socket] = {}
        self._guests: dict[str, Guest] = {}
        self._open: Counter[str] = Counter()
        self._servers: dict[asyncio.subprocess.Process, Guest] = {}
        self._started: dict[str, list[float]] = {}
        self._tasks: set[asyncio.Task[None]] = set()
        self._ws: Workspace | None = None

    def renew(self, ws: Workspace, plan: Plan, links: KernelPlan) -> bool:
        """Listen exactly where the lab requires it. False if that is not possible now; the reason is logged."""
        self._ws = ws
        names = {bridge.network: bridge.name for bridge in links.bridges()}
        found = [(guest, place) for guest, place in smb_places(ws.lab, plan) if place.network in names]
        self._guests = {str(place.guest): guest for guest, place in found}
        now = {guest.name: guest.shares for guest in self._guests.values()}
        for process, guest in self._servers.items():
            if now.get(guest.name) != guest.shares:
                # A share that was removed or changed is closed for clients that have it open.
                with contextlib.suppress(ProcessLookupError):
                    process.terminate()
        wanted = {(names[place.network], str(place.server)) for _, place in found}
        for gone in self._sockets.keys() - wanted:
            self._shut(gone)
        fine = True
        for place in sorted(wanted - self._sockets.keys()):
            try:
                self._listen(place)
            except OSError as e:
                fine = False
                self._say(f"cannot share folders by SMB at {place[1]}:{PORT}: {e.strerror or e}")
        return fine

    def close(self) -> None:
        """Stop listening; existing connections stay open."""
        for place in list(self._sockets):
            self._shut(place)

    def _shut(self, place: _Place) -> None:
        take_no_more(self._sockets.pop(place))

    def _listen(self, place: _Place) -> None:
        link, address = place
        self._sockets[place] = s = connections(link, address, PORT)
        take_each(s, self._take)
        self._say(f"shares folders by SMB at {address}:{PORT}")

    def _take(self, connection: socket.socket, peer: str) -> None:
        guest = self._guests.get(peer)
        if guest is None or self._too_often(guest.name):
            connection.close()
            return
        # A guest that was killed does not close its connections: its servers exit by themselves, or when others need
        # their place.
        connection.setsockopt(socket.SOL_SOCKET, socket.SO_KEEPALIVE, 1)
        for option, value in _KEEP_ALIVE:
            connection.setsockopt(socket.IPPROTO_TCP, option, value)
        if self._open[guest.name] >= MOST:
            oldest = next((process for process, whose in self._servers.items() if whose.name == guest.name), None)
            if oldest is None:
                connection.close()
                return
            with contextlib.suppress(ProcessLookupError):
                oldest.terminate()
        connection.setblocking(True)
        self._open[guest.name] += 1
        task = asyncio.ensure_future(self._serve(guest, connection))
        self._tasks.add(task)
        task.add_done_callback(self._tasks.discard)

    def _too_often(self, guest: str) -> bool:
        """True for a guest that keeps starting servers: each costs this host more than the guest."""
        now = asyncio.get_running_loop().time()
        before = [at for at in self._started.get(guest, ()) if now - at < STARTS_S]
        self._started[guest] = before if len(before) >= STARTS_MOST else [*before, now]
        return len(before) >= STARTS_MOST

    async def _serve(self, guest: Guest, connection: socket.socket) -> None:
        assert self._ws
        say = partial(self._say, bucket=guest.name)
        try:
            with attempt(say, f"{guest.name}: cannot serve its shared folders"):
                with connection:
                    told = await asyncio.to_thread(server_for, self._ws, guest)
                    process = await asyncio.create_subprocess_exec(
                        sys.executable, "-I", "-S", smb_server.__file__, json.dumps(told), cwd="/",
                        stdin=connection.fileno(), stdout=asyncio.subprocess.DEVNULL,
                        stderr=asyncio.subprocess.PIPE, start_new_session=True,
                        env={"PATH": "/usr/bin:/bin", "LC_ALL": "C.UTF-8"},
                    )  # fmt: skip
                self._servers[process] = guest
                _, words = await process.communicate()
                del self._servers[process]
                if process.returncode and process.returncode > 0:
                    last = (words[-400:].decode(errors="replace").strip().splitlines() or ["it printed nothing"])[-1]
                    say(f"{guest.name}: its file server exited: {last}")
        finally:
            self._open[guest.name] -= 1
