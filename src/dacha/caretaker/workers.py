"""The packet worker's process, and the process that it is forked from."""

from __future__ import annotations

import asyncio
import contextlib
import os
import select
import signal
import socket
import subprocess
import sys
import time
from collections.abc import Callable, Sequence

from dacha.caretaker.packets.messages import (
    DESCRIPTORS_MOST,
    MOST,
    RELAY,
    START,
    Attach,
    Begin,
    Order,
    Told,
    decode,
    send_order,
)
from dacha.caretaker.sockets import roomy
from dacha.core.errors import PeerError
from dacha.core.named import NamedTuple
from dacha.host.accounts import Account

# A worker that does not read its orders within this time is replaced (seconds).
PATIENCE_S = 5.0
# Workers that ended within a minute: with more than two a second or so, the next one waits, so that a lab that cannot
# be served does not use the whole CPU.
OFTEN, PAUSE_S = 110, 0.5
# How long a last order may take before the worker is ended all the same (seconds).
FINISH_S = 0.5
# How long the fork server may take to start on a busy machine (seconds).
START_S = 60.0
# Messages that are read together.
BURST = 64


class _Worker(NamedTuple):
    pid: int
    process: int
    orders: socket.socket
    told: socket.socket
    words: int
    relay: int
    relay_orders: socket.socket


class _Source:
    """The fork server: started with the first worker, and again if it is lost."""

    def __init__(self, account: Account | None) -> None:
        self._user = [str(account.uid), str(account.gid)] if account else ["-", "-"]
        self._process: subprocess.Popen[bytes] | None = None
        self._asking: socket.socket | None = None
        self._words = os.memfd_create("workers")

    def made(self, what: bytes, *descriptors: int) -> tuple[int, int]:
        """A new worker or relay with these descriptors: its id and its pidfd. Raises OSError."""
        why = ""
        for _ in range(2):
            asking = self._asking or self._begin()
            try:
                socket.send_fds(asking, [what], descriptors)
                word, found, _, _ = socket.recv_fds(asking, 16, 1)
                if found:
                    return int(word), found[0]
            except OSError as e:
                why = e.strerror or str(e)
            self._end()
            why = _last_words(self._words) or why
        raise OSError(f"cannot start one: {why}")

    def _begin(self) -> socket.socket:
        os.ftruncate(self._words, 0)
        os.lseek(self._words, 0, os.SEEK_SET)
        mine, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        mine.settimeout(START_S)
        self._asking = mine
        with theirs:
            self._process = subprocess.Popen(
                [sys.executable, "-P", "-m", "dacha.caretaker.packets.fork_server", str(theirs.fileno()), *self._user],
                stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL, stderr=self._words, pass_fds=[theirs.fileno()],
            )  # fmt: skip
        return mine

    def _end(self) -> None:
        if self._asking:
            self._asking.close()
        if self._process:
            self._process.kill()
            self._process.wait()
        self._asking = self._process = None

    def close(self) -> None:
        self._end()
        os.close(self._words)


def _last_words(file: int) -> str:
    """The last line of a process's error messages."""
    return (os.pread(file, 2000, 0).decode(errors="replace").strip().splitlines() or [""])[-1][:200]


class Workers:
    """Keeps one worker running, until `close`."""

    def __init__(
        self,
        account: Account | None,
        heard: Callable[[Told], None],
        lost: Callable[[], None],
        log: Callable[[str], None],
    ) -> None:
        """`heard` receives the worker's messages; `lost` is called when the worker has exited, and should request a new
        one."""
        self._heard, self._lost, self._log = heard, lost, log
        self._source = _Source(account)
        self._at_work: _Worker | None = None
        self._ends: list[float] = []
        self._again: asyncio.TimerHandle | None = None

    def order(self, orders: Sequence[tuple[Order, Sequence[socket.socket]]]) -> None:
        """Let a new worker take over with these orders; the present one is terminated. Raises OSError."""
        worker, self._at_work = self._at_work, None
        self._retire(worker)
        self._at_work = self._start()
        asyncio.get_running_loop().add_reader(self._at_work.told, self._readable, self._at_work)
        for order, sockets in orders:
            self.add(order, sockets)

    def add(self, order: Order, sockets: Sequence[socket.socket] = ()) -> None:
        """One more order for the present worker. Raises OSError if it does not accept it."""
        if self._at_work is not None:
            send_order(self._at_work.orders, order, [s.fileno() for s in sockets])

    def finish(self, order: Order) -> None:
        """A last order for the present worker, which is waited for briefly."""
        if self._at_work is not None:
            with contextlib.suppress(OSError, ValueError):
                asyncio.get_running_loop().remove_reader(self._at_work.told)
                self.add(order)
                self.add(Begin())
                select.select([self._at_work.told], [], [], FINISH_S)

    def attach(self, links: Sequence[tuple[tuple[str, str, str], socket.socket]]) -> None:
        """Give the present worker's frame relay these sockets, and no others. Raises OSError."""
        if self._at_work is None:
            return
        for n in range(0, max(1, len(links)), DESCRIPTORS_MOST):
            part = links[n : n + DESCRIPTORS_MOST]
            order = Attach(tuple(link for link, _ in part), n == 0)
            send_order(self._at_work.relay_orders, order, [s.fileno() for _, s in part])

    def hand(self, order: Order, file: int | None) -> None:
        """One order with an open file, or without. Raises OSError if it is not accepted."""
        if self._at_work is not None:
            send_order(self._at_work.orders, order, [] if file is None else [file])

    def pid(self) -> int | None:
        return self._at_work.pid if self._at_work else None

    def close(self) -> None:
        if self._again:
            self._again.cancel()
        self._retire(self._at_work)
        self._at_work = None
        self._source.close()

    def replace(self, why: str) -> None:
        """Terminate the present worker, for a logged reason, and let the next one take over."""
        self._log(f"the packet worker is replaced: {why}")
        worker, self._at_work = self._at_work, None
        self._retire(worker)
        now = time.monotonic()
        self._ends = [at for at in self._ends if now - at < 60.0] + [now]
        if self._again:
            self._again.cancel()
        pause = PAUSE_S if len(self._ends) > OFTEN else 0.0
        self._again = asyncio.get_running_loop().call_later(pause, self._lost)

    def _start(self) -> _Worker:
        orders, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_STREAM)
        told, theirs_told = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        orders.settimeout(PATIENCE_S)
        told.setblocking(False)
        relay_orders, theirs_relay = socket.socketpair(socket.AF_UNIX, socket.SOCK_STREAM)
        relay_orders.settimeout(PATIENCE_S)
        frames, theirs_frames = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        for s in (frames, theirs_frames):
            roomy(s)
        # Its error messages, if it fails: in memory, limited by its own file size limit.
        words = os.memfd_create("worker")
        opened = (orders, told, relay_orders)
        with theirs, theirs_told, theirs_relay, frames, theirs_frames, contextlib.ExitStack() as failed:
            for s in opened:
                failed.callback(s.close)
            failed.callback(os.close, words)
            _, relay = self._source.made(RELAY, theirs_relay.fileno(), frames.fileno())
            failed.callback(os.close, relay)
            pid, process = self._source.made(
                START, theirs.fileno(), theirs_told.fileno(), theirs_frames.fileno(), words
            )
            failed.pop_all()
        return _Worker(pid, process, orders, told, words, relay, relay_orders)

    def _retire(self, worker: _Worker | None) -> None:
        if worker is None:
            return
        with contextlib.suppress(ValueError):
            asyncio.get_running_loop().remove_reader(worker.told)
        for s in (worker.orders, worker.told, worker.relay_orders):
            s.close()
        for process in (worker.process, worker.relay):
            with contextlib.suppress(ProcessLookupError):
                signal.pidfd_send_signal(process, signal.SIGKILL)
            ended = select.poll()
            ended.register(process, select.POLLIN)  # the state once the process has exited (pidfd_open(2))
            ended.poll(PATIENCE_S * 1000)
            os.close(process)
        os.close(worker.words)

    def _readable(self, worker: _Worker) -> None:
        for _ in range(BURST):
            if worker is not self._at_work:
                return
            try:
                data = worker.told.recv(MOST + 1)
            except BlockingIOError:
                return
            except OSError:
                data = b""
            if not data:
                words = _last_words(worker.words)
                self.replace(f"it has exited{': ' + words if words else ''}")
                return
            try:
                self._heard(decode(data))
            except PeerError as e:
                self.replace(f"{e.what}{' (' + e.why[:80] + ')' if e.why else ''}")
            except OSError:
                self.replace("it does not read its configuration")
