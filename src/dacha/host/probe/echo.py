"""Packet sizes that pass to a machine and back: ICMP echo requests that must not be fragmented (RFC 792, RFC 1191)."""

from __future__ import annotations

import errno
import os
import socket
import struct
import time
from collections.abc import Iterable

from dacha.wire.link.ethernet import checksum

# linux/in.h: send with "do not fragment", even if the kernel assumes a smaller path MTU.
_IP_MTU_DISCOVER, _PROBE = 10, 3
_HEADERS = 28  # IPv4 and ICMP


def comes_back(address: str, sizes: Iterable[int], timeout_s: float) -> tuple[int, ...] | None:
    """Those sizes (bytes, with the IPv4 header) whose echo reply arrives; None if requests cannot be sent. It requires
    root. Each is sent twice, so that one lost packet proves nothing."""
    wanted = sorted(set(sizes))
    key = os.getpid() & 0xFFFF
    try:
        with socket.socket(socket.AF_INET, socket.SOCK_RAW, socket.IPPROTO_ICMP) as s:
            s.setsockopt(socket.IPPROTO_IP, _IP_MTU_DISCOVER, _PROBE)
            s.connect((address, 0))
            found: set[int] = set()
            began = time.monotonic()
            for share in (0.5, 1.0):
                for size in set(wanted) - found:
                    _send(s, key, size)
                while set(wanted) - found and (left := began + timeout_s * share - time.monotonic()) > 0:
                    s.settimeout(left)
                    try:
                        data = s.recv(65536)
                    except TimeoutError:
                        break
                    head = (data[0] & 15) * 4
                    if data[head : head + 1] == b"\0" and data[head + 4 : head + 6] == struct.pack(">H", key):
                        found.add(struct.unpack_from(">H", data, head + 6)[0])
            return tuple(sorted(found))
    except OSError:
        return None


def _send(s: socket.socket, key: int, size: int) -> None:
    """An echo request whose sequence number is its size."""
    body = bytes(size - _HEADERS)
    message = struct.pack(">BBHHH", 8, 0, 0, key, size) + body
    try:
        s.send(message[:2] + struct.pack(">H", checksum(message)) + message[4:])
    except OSError as e:
        if (
            e.errno != errno.EMSGSIZE
        ):  # this host's own link does not accept such a packet, and reports an error to every sender
            raise
