"""Run probes on their ports: all together, each with the same time limit."""

from __future__ import annotations

import errno
import os
import resource
import selectors
import socket
import time
from collections.abc import Callable, Container, Iterable
from ipaddress import IPv4Address

from dacha.core.heard import Heard
from dacha.core.plan.doors import DoorPlan, entered_at
from dacha.wire.probes import AnyProbe, Probe, Verdict, probe_for, verdict_of

# Descriptors that a command uses besides its probes: monitors, files, locks.
SPARE = 128

# The caller's key of each target, returned with its verdict.
Target = tuple[object, str, int, Probe]


def door_targets(doors: Iterable[DoorPlan], lan: IPv4Address | None) -> list[Target]:
    """The TCP doors that this host can probe, each with its protocol; their keys are (guest, name). `lan` is this
    host's LAN address."""
    return [
        ((d.door.guest, d.door.name), *place, probe_for(d.door.service))
        for d in doors
        if d.door.protocol == "tcp" and (place := entered_at(d, lan))
    ]


def nobody(keys: set[object]) -> set[object]:
    """The default of `probe_all`: no target gets more time."""
    return set()


def probe_all(
    targets: Iterable[Target],
    timeout_s: float,
    patient: Callable[[set[object]], set[object]] = nobody,
    more_s: float = 0.0,
) -> dict[object, Verdict]:
    """Run probes (key, address, TCP port, probe) together; every key has a verdict within `timeout_s` seconds. For
    targets that are connected but silent, `patient` returns those that may be slow: they get `more_s` seconds more. If
    this process cannot open so many connections, they run in several rounds of that length."""
    targets = list(targets)
    at_once = may_open(len(targets))
    verdicts: dict[object, Verdict] = {}
    for first in range(0, len(targets), at_once):
        verdicts |= _round(targets[first : first + at_once], timeout_s, patient, more_s)
    return verdicts


def may_open(wanted: int) -> int:
    """How many of `wanted` descriptors this process can open besides those it needs, at least one: its limit is raised
    to the maximum allowed (getrlimit(2)), because the usual 1024 of a shell is for programs that use select(2)."""
    soft, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
    if soft != resource.RLIM_INFINITY and wanted + SPARE > soft:
        soft = wanted + SPARE if hard == resource.RLIM_INFINITY else min(wanted + SPARE, hard)
        resource.setrlimit(resource.RLIMIT_NOFILE, (soft, hard))
    return wanted or 1 if soft == resource.RLIM_INFINITY else max(1, min(wanted, soft - SPARE))


def _round(
    targets: list[Target], timeout_s: float, patient: Callable[[set[object]], set[object]], more_s: float
) -> dict[object, Verdict]:
    verdicts: dict[object, Verdict] = {}
    began = time.monotonic()
    deadline = began + timeout_s
    silence = verdict_of(Heard.NOTHING)
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
                    verdicts[entry.data[0]] = verdict._replace(after_s=time.monotonic() - began)
                    selector.unregister(entry.fileobj)
                    entry.fileobj.close()
            if time.monotonic() >= deadline:
                slow = patient(_connected(selector)) if more_s else set()
                if not slow:
                    break
                _give_up(selector, verdicts, silence, slow)
                silence = Verdict(
                    False, f"accepts connections, but sent nothing for {timeout_s + more_s:.0f} s", heard=Heard.MUTE
                )
                deadline, more_s = deadline + more_s, 0.0
        _give_up(selector, verdicts, silence)
    return verdicts


def _connected(selector: selectors.BaseSelector) -> set[object]:
    """The targets that are connected and wait for the first answer of a known protocol."""
    return {
        entry.data[0]
        for entry in selector.get_map().values()
        if entry.events == selectors.EVENT_READ and not isinstance(entry.data[1], AnyProbe)
    }


def _give_up(
    selector: selectors.BaseSelector, verdicts: dict[object, Verdict], silence: Verdict, but: Container[object] = ()
) -> None:
    """The verdict `silence` for each target that has not answered, except those in `but`, which get more time."""
    for entry in list(selector.get_map().values()):
        assert isinstance(entry.fileobj, socket.socket)
        key, probe = entry.data
        if key in but:
            continue
        # A service with an unknown protocol may wait for the client to send first.
        silent = isinstance(probe, AnyProbe) and entry.events == selectors.EVENT_READ
        verdicts[key] = Verdict(True, "accepts") if silent else silence
        selector.unregister(entry.fileobj)
        entry.fileobj.close()


def _step(selector: selectors.BaseSelector, s: socket.socket, mask: int, probe: Probe) -> Verdict | None:
    try:
        if mask & selectors.EVENT_WRITE:
            error = s.getsockopt(socket.SOL_SOCKET, socket.SO_ERROR)
            if error:
                refused = error == errno.ECONNREFUSED
                return verdict_of(Heard.REFUSED) if refused else Verdict(False, os.strerror(error).lower())
            if probe.greeting:
                s.send(probe.greeting)
            selector.modify(s, selectors.EVENT_READ, selector.get_key(s).data)
            return None
        data = s.recv(4096)
        return probe.receive(data) if data else probe.closed()
    except BlockingIOError:
        return None
    except ConnectionResetError:
        return verdict_of(Heard.CLOSED)
    except OSError as e:
        return Verdict(False, e.strerror or "fails")
