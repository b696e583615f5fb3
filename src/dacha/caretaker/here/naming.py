"""The names that the lab announces on the LAN, as this host's address there changes."""

from __future__ import annotations

import asyncio
import socket
from collections.abc import Callable
from ipaddress import IPv4Network

from dacha.caretaker.here.lan_socket import multicast_names
from dacha.caretaker.packets.messages import LAN, Announce, Order
from dacha.core.plan.plan import Plan
from dacha.core.reach.lan_names import lan_names
from dacha.engine.workspace import Workspace
from dacha.host.network import addresses

# How often it is looked whether this host has another address on the LAN (seconds).
LOOK_S = 2.0
NOTHING = Announce((), IPv4Network("0.0.0.0/32"))


class Naming:
    """Keeps the order with the names up to date, from the first `renew` until `close`."""

    def __init__(self, changed: Callable[[], None], log: Callable[[str], None]) -> None:
        """`changed` is called when the announced names or this host's address change."""
        self._changed, self._log = changed, log
        self._socket: socket.socket | None = None
        self._order = NOTHING
        self._failure = ""
        self._task: asyncio.Task[None] | None = None
        self.wanted = False

    def renew(self, ws: Workspace, plan: Plan) -> None:
        """The lab as it is now."""
        self._ws, self._plan, self.wanted = ws, plan, ws.lab.lan_names
        self._look()
        if self.wanted and (self._task is None or self._task.done()):
            self._task = asyncio.ensure_future(self._follow())

    def order(self) -> tuple[Order, tuple[socket.socket, ...]]:
        """The present order, with its socket."""
        return self._order, (self._socket,) if self._socket else ()

    def close(self) -> None:
        if self._task:
            self._task.cancel()
        if self._socket:
            self._socket.close()

    async def _follow(self) -> None:
        while self.wanted:
            await asyncio.sleep(LOOK_S)
            if self._look():
                self._changed()

    def _look(self) -> bool:
        """Look at the LAN; whether the order is another one than before."""
        order, opened = NOTHING, None
        link, address = (addresses.lan_interface(), addresses.lan_address()) if self.wanted else (None, None)
        if link and address and (near := [s for s in addresses.used_subnets() if address in s]):
            names = lan_names(self._ws.lab, self._plan, address)
            order = Announce(names, max(near, key=lambda s: s.prefixlen)) if names else NOTHING
        if order == self._order:
            return False
        if link and address and order != NOTHING:
            try:
                opened = multicast_names(link, address)
            except OSError as e:
                failure = f"{LAN}: cannot announce names on {link}: {e.strerror or e}"
                if failure != self._failure:
                    self._log(failure)
                self._failure = failure
                return False
            self._log(f"{LAN}: announces {', '.join(f'{n.name}.local' for n in order.names)} on {link}")
        if self._socket:
            self._socket.close()
        self._socket, self._order, self._failure = opened, order, ""
        return True
