"""Accept connections one by one; accepting pauses for a second if no more files can be opened."""

from __future__ import annotations

import asyncio
import errno
import socket
from collections.abc import Callable

# accept(2) failed for lack of these resources; the connection stays queued. Retrying at once would busy-loop.
_NO_ROOM = {errno.EMFILE, errno.ENFILE, errno.ENOBUFS, errno.ENOMEM}
AGAIN_S = 1.0


def take_each(listening: socket.socket, take: Callable[[socket.socket, str], None]) -> None:
    """Call `take` for every connection to this socket, with its peer's address, until `take_no_more`."""
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
    """Close the socket; accepted connections stay open."""
    asyncio.get_running_loop().remove_reader(listening)
    listening.close()
