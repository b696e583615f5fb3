"""Accepting connections one by one; when no more files can be opened, accepting pauses for a second."""

from __future__ import annotations

import asyncio
import errno
import socket
from collections.abc import Callable

# accept(2): the connection could not be opened for want of these, and still waits. Asked for at once it would be asked
# for without end.
_NO_ROOM = {errno.EMFILE, errno.ENFILE, errno.ENOBUFS, errno.ENOMEM}
AGAIN_S = 1.0


def take_each(listening: socket.socket, take: Callable[[socket.socket, str], None]) -> None:
    """Give `take` every connection to this socket, with its peer's address, until `take_no_more`."""
    loop = asyncio.get_running_loop()

    def ready() -> None:
        try:
            connection, peer = listening.accept()
        except OSError as e:
            if e.errno in _NO_ROOM:
                loop.remove_reader(listening)
                loop.call_later(AGAIN_S, wait)
            return
        take(connection, str(peer[0]))

    def wait() -> None:
        if listening.fileno() >= 0:
            loop.add_reader(listening, ready)

    wait()


def take_no_more(listening: socket.socket) -> None:
    """Close the socket; what was taken stays open."""
    asyncio.get_running_loop().remove_reader(listening)
    listening.close()
