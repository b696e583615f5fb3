"""Carries probes to their ports: all of them at once, each within one time limit."""

from __future__ import annotations

import errno
import os
import selectors
import socket
import time
from collections.abc import Iterable

from dacha.wire.probes import AnyProbe, Probe, Verdict

# The key a caller gave to each target comes back with its verdict.
Target = tuple[object, str, int, Probe]


def probe_all(targets: Iterable[Target], timeout_s: float) -> dict[object, Verdict]:
    """Probe (key, address, TCP port, probe) targets together; every key has a verdict within `timeout_s` seconds."""
    verdicts: dict[object, Verdict] = {}
    deadline = time.monotonic() + timeout_s
    with selectors.DefaultSelector() as selector:
        for key, address, port, probe in targets:
            s = socket.socket(socket.AF_INET6 if ":" in address else socket.AF_INET, socket.SOCK_STREAM)
            s.setblocking(False)
            s.connect_ex((address, port))
            selector.register(s, selectors.EVENT_WRITE, (key, probe))
        while selector.get_map():
            ready = selector.select(max(0.0, deadline - time.monotonic()))
            for entry, mask in ready:
                assert isinstance(entry.fileobj, socket.socket)
                verdict = _step(selector, entry.fileobj, mask, entry.data[1])
                if verdict:
                    verdicts[entry.data[0]] = verdict
                    selector.unregister(entry.fileobj)
                    entry.fileobj.close()
            if time.monotonic() >= deadline:
                break
        for entry in list(selector.get_map().values()):
            assert isinstance(entry.fileobj, socket.socket)
            key, probe = entry.data
            # A service without a protocol of its own may well wait for the client to speak first.
            silent = isinstance(probe, AnyProbe) and entry.events == selectors.EVENT_READ
            verdicts[key] = Verdict(silent, "accepts" if silent else "no answer")
            selector.unregister(entry.fileobj)
            entry.fileobj.close()
    return verdicts


def _step(selector: selectors.BaseSelector, s: socket.socket, mask: int, probe: Probe) -> Verdict | None:
    try:
        if mask & selectors.EVENT_WRITE:
            error = s.getsockopt(socket.SOL_SOCKET, socket.SO_ERROR)
            if error:
                return Verdict(False, "refuses" if error == errno.ECONNREFUSED else os.strerror(error).lower())
            if probe.greeting:
                s.send(probe.greeting)
            selector.modify(s, selectors.EVENT_READ, selector.get_key(s).data)
            return None
        data = s.recv(4096)
        return probe.receive(data) if data else probe.closed()
    except BlockingIOError:
        return None
    except ConnectionResetError:
        return Verdict(False, "closes at once")
    except OSError as e:
        return Verdict(False, e.strerror or "fails")
