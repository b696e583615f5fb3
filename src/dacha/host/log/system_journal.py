"""systemd's journal, by its native protocol (systemd.io/JOURNAL_NATIVE_PROTOCOL): one datagram an entry."""

from __future__ import annotations

import contextlib
import socket
from collections.abc import Mapping
from pathlib import Path

SOCKET = Path("/run/systemd/journal/socket")
# A larger datagram would have to be passed as a file: such an entry is left out.
MOST = 64 << 10


def entry(fields: Mapping[str, str]) -> bytes:
    """An entry: `KEY=value` lines; a value of several lines with its length (64 bits, little endian)."""
    parts = []
    for key, value in fields.items():
        data = value.encode(errors="replace")
        if b"\n" in data:
            parts.append(key.encode() + b"\n" + len(data).to_bytes(8, "little") + data + b"\n")
        else:
            parts.append(key.encode() + b"=" + data + b"\n")
    return b"".join(parts)


def send(fields: Mapping[str, str], path: Path = SOCKET) -> None:
    """Write an entry into the journal, if this host has one. It is never waited for: a full journal loses it."""
    data = entry(fields)
    if len(data) > MOST:
        return
    with contextlib.suppress(OSError), socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM) as s:
        s.setblocking(False)
        s.sendto(data, str(path))
