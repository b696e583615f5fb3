"""What the caretaker's sockets have in common."""

from __future__ import annotations

import contextlib
import socket

# Linux: asm-generic/socket.h. Unlike SO_RCVBUF it may exceed the host's limit, for those with the privilege.
_SO_RCVBUFFORCE = 33
_BYTES = 4 << 20


def roomy(s: socket.socket) -> None:
    """Let thousands of datagrams wait, so that a lab that starts all at once loses none."""
    s.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, _BYTES)
    with contextlib.suppress(OSError):
        s.setsockopt(socket.SOL_SOCKET, _SO_RCVBUFFORCE, _BYTES)
