"""Connecting to UNIX sockets, whose paths the kernel limits to 107 bytes (unix(7))."""

from __future__ import annotations

import os
import socket
import struct
from pathlib import Path


def connect(path: Path, timeout_s: float) -> socket.socket:
    """A connected stream socket; a long path is reached through its folder. Raises OSError."""
    s = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
    s.settimeout(timeout_s)
    try:
        if len(os.fsencode(path)) <= 107:
            s.connect(str(path))
        else:
            folder = os.open(path.parent, os.O_PATH | os.O_DIRECTORY)
            try:
                s.connect(f"/proc/self/fd/{folder}/{path.name}")
            finally:
                os.close(folder)
    except BaseException:
        s.close()
        raise
    return s


def peer(s: socket.socket) -> tuple[int, int]:
    """The process and the user that listen at the other end (unix(7), SO_PEERCRED: who called listen)."""
    pid, uid, _ = struct.unpack("3i", s.getsockopt(socket.SOL_SOCKET, socket.SO_PEERCRED, struct.calcsize("3i")))
    return int(pid), int(uid)
