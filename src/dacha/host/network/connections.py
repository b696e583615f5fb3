"""End connections through this host: the kernel forgets them (netlink(7)), or a process's own sockets are shut down."""

from __future__ import annotations

import contextlib
import os
import socket
from collections.abc import Callable
from pathlib import Path

from dacha.core.errors import HostError, PeerError
from dacha.host.descriptors import of_process
from dacha.host.network.kernel_events import NETLINK_NETFILTER
from dacha.wire.link.conntrack import Connection, connections, delete_request, list_request

_DATAGRAM, _WAIT_S = 1 << 16, 5.0
_ESTABLISHED = "01"  # linux: net/tcp_states.h, as in /proc/net/tcp


def end(wanted: Callable[[Connection], bool]) -> list[Connection]:
    """Delete the kernel's records of the `wanted` connections: their next packet is judged as that of a new one.
    Returns those that were ended. Raises HostError."""
    try:
        with socket.socket(socket.AF_NETLINK, socket.SOCK_RAW, NETLINK_NETFILTER) as s:
            s.settimeout(_WAIT_S)
            s.bind((0, 0))
            s.send(list_request())
            found: list[Connection] = []
            last = False
            while not last:
                more, last = connections(s.recv(_DATAGRAM))
                found += [c for c in more if wanted(c)]
            for connection in found:
                s.send(delete_request(connection))
                s.recv(_DATAGRAM)
            return found
    except (OSError, PeerError) as e:
        why = e.strerror if isinstance(e, OSError) and e.strerror else str(e)
        raise HostError("cannot end the connections of closed doors", why=why) from e


def shut(pid: int, port: int) -> tuple[int, str]:
    """Shut down the TCP connections that a process has accepted on a local port: their number, and why others could not
    be (pidfd_getfd(2), shutdown(2))."""
    wanted = _sockets_at(pid, port)
    shut, why = 0, ""
    try:
        process = os.pidfd_open(pid)
    except OSError as e:
        return 0, e.strerror or str(e)
    try:
        for entry in Path(f"/proc/{pid}/fd").iterdir():
            with contextlib.suppress(FileNotFoundError):
                if str(entry.readlink()) not in wanted:
                    continue
                try:
                    fd = of_process(process, int(entry.name))
                except OSError as e:
                    why = e.strerror or str(e)
                    continue
                with socket.socket(fileno=fd) as s, contextlib.suppress(OSError):
                    s.shutdown(socket.SHUT_RDWR)
                    shut += 1
    except OSError as e:
        why = e.strerror or str(e)
    finally:
        os.close(process)
    return shut, why


def _sockets_at(pid: int, port: int) -> set[str]:
    """The established connections on a local port in a process's network namespace, by their names in /proc."""
    found = set()
    for name in ("tcp", "tcp6"):
        with contextlib.suppress(OSError):
            for line in Path(f"/proc/{pid}/net/{name}").read_text().splitlines()[1:]:
                words = line.split()
                if words[3] == _ESTABLISHED and int(words[1].rpartition(":")[2], 16) == port:
                    found.add(f"socket:[{words[9]}]")
    return found
