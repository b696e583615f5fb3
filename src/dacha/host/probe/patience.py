"""Probe a service that may be slow: a few connections, each held for as long as an answer may take.

A slow guest needs many seconds for its first answer, and each connection that is given up and repeated costs it that
much again. So connections that the guest has accepted are waited for; only others are soon repeated.
"""

from __future__ import annotations

import errno
import os
import selectors
import socket

from dacha.core.heard import Heard
from dacha.core.named import NamedTuple
from dacha.wire.probes import Probe, Verdict, probe_for, verdict_of

# Seconds: a connection that is not accepted is repeated after this time, as the intervals between a kernel's
# retransmissions double (RFC 6298 section 5.5), and then after longer times, as a guest on a busy machine may be slow;
# an accepted one is held for minutes, with a second one beside it after a while.
UNTAKEN_S, UNTAKEN_MOST_S, HELD_S, BESIDE_S = 0.5, 15.0, 240.0, 25.0
# The maximum number in parallel; behind a forward that accepts by itself, they would pile up.
MOST = 3
# After a refusal it is repeated soon, then at growing intervals.
AGAIN_S, AGAIN_MOST_S = 0.2, 2.0


class _Connection:
    """One connection: its start, and its probe."""

    def __init__(self, s: socket.socket, probe: Probe, began: float) -> None:
        self.socket, self.probe, self.began = s, probe, began
        self.connected = False


class Place(NamedTuple):
    """The target of a probe: address, TCP port, and service name ("ssh"), None for an unknown protocol."""

    address: str
    port: int
    service: str | None


class PatientProbe:
    """Probes one service until it answers. Times are monotonic seconds, provided by the caller."""

    def __init__(self, selector: selectors.BaseSelector, place: Place) -> None:
        self.place = place
        self.answer: Verdict | None = None
        self.last = verdict_of(Heard.NOTHING)
        self._selector = selector
        self._open: list[_Connection] = []
        self._first: float | None = None
        self._taken: bool | None = None
        self._not_before, self._pause = 0.0, AGAIN_S

    @property
    def oldest_s(self) -> float | None:
        """The start of the oldest accepted connection; None without one."""
        return min((c.began for c in self._open if c.connected), default=None)

    @property
    def silent_since(self) -> float | None:
        """Since when the service itself has had a connection without sending anything; None without one."""
        return self.oldest_s if self._taken is not False else None

    def step(self, now: float, taken: bool | None) -> None:
        """Give up stale connections, and connect if another attempt is due. `taken` tells whether the guest itself has
        a connection; None if that equals being connected."""
        self._taken = taken
        self._first = now if self._first is None else self._first
        untaken = min(UNTAKEN_S + (now - self._first) / 20, UNTAKEN_MOST_S)
        for c in list(self._open):
            arrived = c.connected if taken is None else c.connected and taken
            limit = HELD_S if arrived else untaken
            if now - c.began >= limit:
                self._end(c)
        waits = [c for c in self._open if c.connected] if taken is not False else []
        if not self._open or (len(waits) == len(self._open) < MOST and now - waits[-1].began >= BESIDE_S):
            self._connect(now)

    def _connect(self, now: float) -> None:
        if now < self._not_before:
            return
        s = socket.socket(socket.AF_INET6 if ":" in self.place.address else socket.AF_INET, socket.SOCK_STREAM)
        s.setblocking(False)
        error = s.connect_ex((self.place.address, self.place.port))
        if error not in (0, errno.EINPROGRESS):
            s.close()
            self._refused(Verdict(False, os.strerror(error).lower()), now)
            return
        connection = _Connection(s, probe_for(self.place.service), now)
        self._open.append(connection)
        self._selector.register(s, selectors.EVENT_WRITE, (self, connection))

    def ready(self, connection: _Connection, mask: int, now: float) -> None:
        """Process a connection that is writable or readable; `answer` is set when the verdict is known."""
        try:
            verdict = self._go_on(connection, mask)
        except BlockingIOError:
            return
        except ConnectionResetError:
            verdict = verdict_of(Heard.CLOSED)
        except OSError as e:
            verdict = Verdict(False, (e.strerror or "fails").lower())
        if verdict is None:
            return
        self._end(connection)
        if verdict.ok:
            self.answer = verdict
        else:
            self._refused(verdict, now)

    def _go_on(self, c: _Connection, mask: int) -> Verdict | None:
        if mask & selectors.EVENT_WRITE:
            error = c.socket.getsockopt(socket.SOL_SOCKET, socket.SO_ERROR)
            if error:
                if error == errno.ECONNREFUSED:
                    return verdict_of(Heard.REFUSED)
                raise OSError(error, os.strerror(error))
            c.connected = True
            if c.probe.greeting:
                c.socket.send(c.probe.greeting)
            self._selector.modify(c.socket, selectors.EVENT_READ, (self, c))
            return None
        data = c.socket.recv(4096)
        return c.probe.receive(data) if data else c.probe.closed()

    def _refused(self, verdict: Verdict, now: float) -> None:
        self.last = verdict
        self._not_before, self._pause = now + self._pause, min(self._pause * 1.5, AGAIN_MOST_S)

    def _end(self, connection: _Connection) -> None:
        self._selector.unregister(connection.socket)
        connection.socket.close()
        self._open.remove(connection)

    def close(self) -> None:
        """Close all connections."""
        for connection in list(self._open):
            self._end(connection)
