"""Host ports: whether one is available, and which program uses it."""

from __future__ import annotations

import _socket  # the module below `socket`, which takes quick commands longer to import than these functions take
import errno
from ipaddress import IPv4Address, IPv6Address


def why_not(protocol: str, listen: IPv4Address | IPv6Address, port: int) -> str | None:
    """Why this port is not available, in words, or None if it is. Tested as the hypervisor does: a listening socket
    with address reuse."""
    kind = _socket.SOCK_STREAM if protocol == "tcp" else _socket.SOCK_DGRAM
    s = _socket.socket(_socket.AF_INET6 if listen.version == 6 else _socket.AF_INET, kind)
    try:
        if protocol == "tcp":
            s.setsockopt(_socket.SOL_SOCKET, _socket.SO_REUSEADDR, 1)
        s.bind((str(listen), port))
        if protocol == "tcp":
            s.listen(1)
    except OSError as e:
        if e.errno == errno.EADDRINUSE:
            return f"it is in use by {holder(protocol, port) or 'another program'}"
        if e.errno == errno.EACCES:
            return f"ports below {first_free_port()} require privileges on this host"
        if e.errno == errno.EADDRNOTAVAIL:
            return f"this host has no address {listen}"
        return e.strerror
    finally:
        s.close()
    return None


def first_free_port() -> int:
    """The lowest port that an ordinary user can listen on (ip(7))."""
    with open("/proc/sys/net/ipv4/ip_unprivileged_port_start") as f:
        return int(f.read())


def holder(protocol: str, port: int) -> str | None:
    """The program that uses a port: "sshd, process 812"; None if it is not visible."""
    import psutil

    try:
        for c in psutil.net_connections("tcp4" if protocol == "tcp" else "udp4") + psutil.net_connections(
            "tcp6" if protocol == "tcp" else "udp6"
        ):
            if c.laddr and c.laddr.port == port and (protocol == "udp" or c.status == psutil.CONN_LISTEN):
                if c.pid is None:
                    return "a program of another user"
                return f"{psutil.Process(c.pid).name()}, process {c.pid}"
    except (psutil.Error, OSError):
        pass
    return None


def listening() -> set[tuple[str, int]]:
    """Every (protocol, port) in use on this host, for choosing a free one."""
    found = set()
    for protocol, names in (("tcp", ("tcp", "tcp6")), ("udp", ("udp", "udp6"))):
        for name in names:
            try:
                with open(f"/proc/net/{name}") as f:
                    rows = f.read().splitlines()[1:]
            except OSError:
                continue
            for row in rows:
                fields = row.split()
                # State 0A is LISTEN (include/net/tcp_states.h); UDP has no such state.
                if protocol == "udp" or fields[3] == "0A":
                    found.add((protocol, int(fields[1].rpartition(":")[2], 16)))
    return found
