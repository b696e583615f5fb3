"""Connect to a port and report the result: open and the first answer, refused by what, or silent."""

from __future__ import annotations

import contextlib
import errno
import selectors
import socket
import struct
import subprocess
import time
from collections.abc import Iterable

from dacha.core.heard import Heard
from dacha.core.trace.seen.results import OPEN, REFUSED, REJECTED, SILENT, UNREACHABLE, ConnectResult, accepted
from dacha.host.facts import program
from dacha.host.probe.probing import probe_all
from dacha.wire.probes import Probe, probe_for

# linux/in.h, linux/in6.h, linux/errqueue.h: the origin of an error is in the ancillary data.
_IP_RECVERR, _IPV6_RECVERR, _MSG_ERRQUEUE = 11, 25, 0x2000
_ORIGIN_LOCAL = 1
# linux/tcp.h, tcp_info: the first bit of its options means timestamps, which are then in every packet (RFC 7323).
_TIMESTAMPS = 12


def touch(
    address: str, port: int, probe: Probe, timeout_s: float, source: str | None = None, hear_s: float | None = None
) -> ConnectResult:
    """Connect within `timeout_s` seconds, run the probe, and report the result within that time, or within `hear_s`
    after the connection. `source` is an address of this host to connect from."""
    six = ":" in address
    deadline = time.monotonic() + timeout_s
    with socket.socket(socket.AF_INET6 if six else socket.AF_INET, socket.SOCK_STREAM) as s:
        s.setsockopt(*(socket.IPPROTO_IPV6, _IPV6_RECVERR, 1) if six else (socket.IPPROTO_IP, _IP_RECVERR, 1))
        s.settimeout(timeout_s)
        ours = 0
        try:
            s.bind((source or "", 0))
            ours = s.getsockname()[1]
            s.connect((address, port))
        except TimeoutError:
            return ConnectResult(SILENT, source_port=ours)
        except OSError as e:
            return _refusal(s, e)._replace(source_port=ours)
        began = time.monotonic()
        heard = _hear(s, probe, deadline if hear_s is None else began + hear_s)
        return heard._replace(source_port=ours, largest=_largest(s, six=six), after_s=time.monotonic() - began)


def _largest(s: socket.socket, *, six: bool) -> int:
    """The largest packet of this connection, including headers: both ends have announced their limits."""
    with contextlib.suppress(OSError):
        options = s.getsockopt(socket.IPPROTO_TCP, socket.TCP_INFO, 8)[5]
        headers = (60 if six else 40) + (_TIMESTAMPS if options & 1 else 0)
        return s.getsockopt(socket.IPPROTO_TCP, socket.TCP_MAXSEG) + headers
    return 0


def _hear(s: socket.socket, probe: Probe, deadline: float) -> ConnectResult:
    """The service's answer."""
    try:
        if probe.greeting:
            s.sendall(probe.greeting)
        while (left := deadline - time.monotonic()) > 0:
            s.settimeout(left)
            data = s.recv(4096)
            verdict = probe.receive(data) if data else probe.closed()
            if verdict:
                return ConnectResult(OPEN, verdict.ok, verdict.seen, heard=verdict.heard)
    except TimeoutError:
        pass
    except ConnectionResetError:
        return accepted(Heard.CLOSED)
    except OSError as e:
        return ConnectResult(OPEN, False, e.strerror or str(e))
    return accepted(Heard.NOTHING)


def _refusal(s: socket.socket, error: OSError) -> ConnectResult:
    """A refusal by the port itself (a reset), by a firewall (ICMP), or an unreachable machine."""
    s.settimeout(0)  # the details arrived with the error: an empty queue is not waited for
    try:
        _, ancillary, _, _ = s.recvmsg(512, 512, _MSG_ERRQUEUE)
        origins = {struct.unpack("=IBBBBII", data[:16])[1] for _, _, data in ancillary if len(data) >= 16}
    except OSError:
        origins = set()
    if error.errno == errno.ECONNREFUSED and not origins - {_ORIGIN_LOCAL}:
        return ConnectResult(REFUSED)
    if origins - {_ORIGIN_LOCAL}:
        return ConnectResult(REJECTED, False, error.strerror or "")
    return ConnectResult(UNREACHABLE, False, error.strerror or str(error))


def open_ports(address: str, ports: Iterable[int], timeout_s: float) -> list[int]:
    """Those of a guest's own ports that accept a connection, all probed together."""
    found = []
    deadline = time.monotonic() + timeout_s
    with selectors.DefaultSelector() as selector:
        for port in ports:
            s = socket.socket(socket.AF_INET6 if ":" in address else socket.AF_INET, socket.SOCK_STREAM)
            s.setblocking(False)
            s.connect_ex((address, port))
            selector.register(s, selectors.EVENT_WRITE, port)
        while selector.get_map() and (left := deadline - time.monotonic()) > 0:
            for entry, _ in selector.select(left):
                assert isinstance(entry.fileobj, socket.socket)
                if entry.fileobj.getsockopt(socket.SOL_SOCKET, socket.SO_ERROR) == 0:
                    found.append(int(entry.data))
                selector.unregister(entry.fileobj)
                entry.fileobj.close()
        for entry in list(selector.get_map().values()):
            assert isinstance(entry.fileobj, socket.socket)
            entry.fileobj.close()
    return sorted(found)


def speaking(address: str, service: str, ports: Iterable[int], timeout_s: float) -> tuple[int, ...]:
    """Those ports on which a service speaks its own protocol."""
    verdicts = probe_all([(p, address, p, probe_for(service)) for p in ports], timeout_s)
    return tuple(sorted(int(str(p)) for p, verdict in verdicts.items() if verdict.ok))


def host_key(address: str, port: int, timeout_s: int) -> str | None:
    """The Ed25519 host key of an SSH server: type and data; None if it presents none."""
    tool = program("ssh-keyscan")
    if not tool:
        return None
    command = [tool, "-T", str(timeout_s), "-t", "ed25519", "-p", str(port), address]
    try:
        done = subprocess.run(command, capture_output=True, text=True, timeout=timeout_s + 1, check=False)
    except subprocess.TimeoutExpired:
        return None
    rows = [line.split() for line in done.stdout.splitlines() if line and not line.startswith("#")]
    return " ".join(rows[0][1:3]) if rows and len(rows[0]) >= 3 else None


def address_of(name: str) -> str | None:
    """The first address of a name, or an address itself; None if the name does not resolve."""
    try:
        return str(socket.getaddrinfo(name, None, type=socket.SOCK_STREAM)[0][4][0])
    except (OSError, UnicodeError):  # the latter for invalid names (RFC 1035 section 2.3.4)
        return None
