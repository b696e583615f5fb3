"""Announce guests' names on the LAN, until `close`. The messages are made in `wire.dns.multicast`."""

from __future__ import annotations

import asyncio
import contextlib
import random
import socket
from collections.abc import Callable

from dacha.caretaker.packets.messages import Announce
from dacha.wire.dns.multicast import GROUP, PORT, PROBE_S, Responder, Send
from dacha.wire.dns.multicast_records import records

# The largest message (RFC 6762 section 17), and how many are read together.
MESSAGE_MOST, BURST = 9000, 32


class MulticastNames:
    """The names of one lab on one link."""

    def __init__(self, order: Announce, s: socket.socket, says: Callable[[str], None]) -> None:
        self.order = order
        self._socket, self._says = s, says
        self._loop = asyncio.get_running_loop()
        delay_s = random.SystemRandom().random() * PROBE_S
        self._responder = Responder(records(order.names), order.subnet, self._loop.time(), delay_s)
        self._timer: asyncio.TimerHandle | None = None
        self._loop.add_reader(s, self._readable)
        self._arm()

    def close(self) -> None:
        """Take the names back."""
        if self._timer:
            self._timer.cancel()
        self._loop.remove_reader(self._socket)
        self._send(self._responder.goodbye())
        self._socket.close()

    def _arm(self) -> None:
        if self._timer:
            self._timer.cancel()
        due = self._responder.due()
        self._timer = None if due is None else self._loop.call_at(due, self._wake)

    def _wake(self) -> None:
        self._send(self._responder.wake(self._loop.time()))
        self._arm()

    def _readable(self) -> None:
        for _ in range(BURST):
            try:
                data, source = self._socket.recvfrom(MESSAGE_MOST)
            except OSError:
                break
            self._send(self._responder.heed(data, (source[0], source[1]), self._loop.time()))
        taken, self._responder.taken = self._responder.taken, []
        for name in taken:
            self._says(f"another machine on the LAN uses the name {name}: it is not announced now")
        self._arm()

    def _send(self, messages: list[Send]) -> None:
        for message in messages:
            with contextlib.suppress(OSError):
                self._socket.sendto(message.data, message.to or (str(GROUP), PORT))
