"""The sockets of one network's TFTP server. The protocol logic is in `wire.tftp`; the root part opens the files,
because this process cannot."""

from __future__ import annotations

import asyncio
import os
import socket
from collections.abc import Callable
from functools import partial

from dacha.core.errors import PeerError
from dacha.wire.tftp import Fault, Refused, Request, Transfer, decode_request, encode_error

# The maximum of concurrent transfers, in total and per client; how many datagrams are read together.
TRANSFERS_MOST, EACH_MOST, BURST = 128, 8, 64
# Bytes of a file that are read together.
AHEAD = 128 << 10
# Requests a file by name for a client's address, and is called back with its descriptor and size; None if this client
# has no such file.
Fetch = Callable[[str, str, Callable[[tuple[int, int] | None], None]], None]


class _Sending:
    """One transfer, from a port of its own (RFC 1350 section 4)."""

    def __init__(self, service: TftpService, peer: tuple[str, int], request: Request, file: int, size: int) -> None:
        self._service, self.peer, self._path, self._file = service, peer, request.path, file
        self._loop = asyncio.get_running_loop()
        self._socket = socket.socket(socket.AF_INET, socket.SOCK_DGRAM | socket.SOCK_NONBLOCK)
        self._socket.bind((service.address, 0))
        # Connected: only this client's datagrams are received.
        self._socket.connect(peer)
        self._transfer = Transfer(request, size, self._read)
        self._ahead, self._from = b"", 0
        self._timer: asyncio.TimerHandle | None = None
        self._loop.add_reader(self._socket, self._readable)
        self._send(self._transfer.begin(self._loop.time()))

    def _read(self, at: int, length: int) -> bytes:
        """That many bytes of the file, which is read in larger blocks."""
        if not self._from <= at <= at + length <= self._from + len(self._ahead):
            self._ahead, self._from = os.pread(self._file, max(length, AHEAD), at), at
        start = at - self._from
        return self._ahead[start : start + length]

    def _readable(self) -> None:
        # One at a time: most clients wait for each block, and trying to read a second one costs as much as sending it.
        try:
            data = self._socket.recv(2048)
        except BlockingIOError:
            return
        except OSError:
            data = b"\0\5\0\0"  # its port is closed: the client has gone
        self._send(self._transfer.receive(data, self._loop.time()))

    def _send(self, datagrams: list[bytes]) -> None:
        for datagram in datagrams:
            try:
                self._socket.send(datagram)
            except OSError:
                break  # lost blocks are sent again
        if self._transfer.due is None:
            self._service.ended(self, self._path, self._transfer.failed)
        elif self._timer is None:
            self._watch()

    def _watch(self) -> None:
        self._timer = None
        due = self._transfer.due
        if due is None:
            return
        if due <= self._loop.time():
            self._send(self._transfer.expire(self._loop.time()))
            due = self._transfer.due
        if due is not None and self._timer is None:
            self._timer = self._loop.call_at(due, self._watch)

    def close(self) -> None:
        if self._timer:
            self._timer.cancel()
        self._loop.remove_reader(self._socket)
        self._socket.close()
        os.close(self._file)


class TftpService:
    """Serves one network until `close`."""

    def __init__(self, address: str, listening: socket.socket, fetch: Fetch, log: Callable[[str], None]) -> None:
        self.address, self._socket, self._fetch, self._log = address, listening, fetch, log
        self._sending: set[_Sending] = set()
        # Requested but not opened yet: repeated requests are not answered twice.
        self._asked: set[tuple[tuple[str, int], str]] = set()
        asyncio.get_running_loop().add_reader(listening, self._readable)

    def _readable(self) -> None:
        for _ in range(BURST):
            try:
                data, peer = self._socket.recvfrom(2048)
            except OSError:
                return
            self._request(data, (peer[0], peer[1]))

    def _request(self, data: bytes, peer: tuple[str, int]) -> None:
        try:
            request = decode_request(data)
        except Refused as e:
            self._refuse(peer, e.fault, e.what)
            return
        except PeerError:
            return
        if len(self._asked) >= TRANSFERS_MOST:
            return  # the root part is busy with earlier requests; the client repeats its own
        mine = sum(s.peer[0] == peer[0] for s in self._sending)
        if len(self._sending) >= TRANSFERS_MOST or mine >= EACH_MOST:
            self._refuse(peer, Fault.OTHER, "too many transfers at once")
        elif (peer, request.path) not in self._asked and not any(s.peer == peer for s in self._sending):
            self._asked.add((peer, request.path))
            self._fetch(request.path, peer[0], partial(self._opened, request, peer))

    def _opened(self, request: Request, peer: tuple[str, int], found: tuple[int, int] | None) -> None:
        self._asked.discard((peer, request.path))
        if found is None:
            self._log(f"{peer[0]} requested {request.path[:100]}, which is not a boot file")
            self._refuse(peer, Fault.NOT_FOUND, "no such file")
            return
        try:
            sending = _Sending(self, peer, request, *found)
        except OSError as e:
            os.close(found[0])
            self._log(f"{request.path[:100]} cannot be sent to {peer[0]}: {e.strerror}")
            return
        self._sending.add(sending)

    def ended(self, sending: _Sending, path: str, failed: str) -> None:
        self._sending.discard(sending)
        sending.close()
        how = f"not sent completely: {failed}" if failed else "was sent"
        self._log(f"{path[:100]} {how} ({sending.peer[0]})")

    def _refuse(self, peer: tuple[str, int], fault: Fault, what: str) -> None:
        try:
            self._socket.sendto(encode_error(fault, what), peer)
        except OSError:
            return

    def close(self) -> None:
        asyncio.get_running_loop().remove_reader(self._socket)
        for sending in list(self._sending):
            sending.close()
        self._sending.clear()
        self._socket.close()
