"""UNIX sockets, whose paths the kernel limits to 107 bytes (unix(7))."""

from __future__ import annotations

import os
import socket
import struct
from pathlib import Path

from dacha.core.errors import PeerError


def connect(path: Path, timeout_s: float) -> socket.socket:
    """A connected stream socket; a long path is opened through its folder. Raises OSError."""
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


def connect_to_guest(path: Path, timeout_s: float) -> socket.socket:
    """A connection to a socket of a guest's process, and to no other process that listens under its name. The guest's
    folder records which process that is (`process_file`). Raises OSError, and PeerError if another process listens
    there."""
    s = connect(path, timeout_s)
    pid, uid = peer(s)
    try:
        expected = int(process_file(path.parent).read_text())
        right = pid == expected
    except (OSError, ValueError):
        # A process that an older Dacha started: check at least that its user owns the folder.
        right = uid == path.parent.stat().st_uid
    if not right:
        s.close()
        raise PeerError(
            "another process listens on the guest's socket", where=str(path), why=f"process {pid}, user {uid}"
        )
    return s


def process_file(run: Path) -> Path:
    """The file with the id of the process whose sockets are in the folder `run`: beside it, where that process cannot
    write."""
    return run.parent / f"{run.name}.process"


def listen(path: Path) -> socket.socket:
    """A socket that waits for one connection under that name, of any length. Raises OSError."""
    s = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
    folder = os.open(path.parent, os.O_PATH | os.O_DIRECTORY)
    try:
        s.bind(f"/proc/self/fd/{folder}/{path.name}")
        s.listen(1)
    except BaseException:
        s.close()
        raise
    finally:
        os.close(folder)
    return s


def peer(s: socket.socket) -> tuple[int, int]:
    """The process and user listening at the other end (unix(7), SO_PEERCRED: the caller of listen)."""
    pid, uid, _ = struct.unpack("3i", s.getsockopt(socket.SOL_SOCKET, socket.SO_PEERCRED, struct.calcsize("3i")))
    return int(pid), int(uid)
