"""Connect to a port from another machine through its SSH server: a channel (RFC 4254 section 7.2, `ssh -W`). Nothing is
installed or run there, and no password is asked for."""

from __future__ import annotations

import os
import select
import subprocess
import time

from dacha.core.trace.seen.results import OPEN, SILENT, ConnectResult, ThereSeen
from dacha.core.trace.there import read_failure
from dacha.wire.probes import Probe

# A limit for the client's error messages.
WORDS_MOST = 16 << 10


def touch_from(ssh: str, machine: str, address: str, port: int, probe: Probe, timeout_s: float) -> ThereSeen:
    """The result of a machine that connects to a port, within `timeout_s` seconds in total. Raises nothing of its own:
    failures are part of the result."""
    to = f"[{address}]:{port}" if ":" in address else f"{address}:{port}"
    argv = [ssh, "-o", "BatchMode=yes", "-o", f"ConnectTimeout={max(1, int(timeout_s))}", "-W", to, "--", machine]
    began = time.monotonic()
    try:
        child = subprocess.Popen(argv, stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.PIPE)
    except OSError as e:
        return ThereSeen(machine, None, str(e))
    with child:
        assert child.stdin and child.stdout and child.stderr
        try:
            heard = _hear(child, probe, began + timeout_s)
            if heard is not None:
                return ThereSeen(machine, heard._replace(after_s=time.monotonic() - began))
            said = os.read(child.stderr.fileno(), WORDS_MOST).decode(errors="replace") if child.poll() else ""
        finally:
            child.kill()
            for pipe in (child.stdin, child.stdout, child.stderr):
                pipe.close()
    if not said:
        return ThereSeen(machine, ConnectResult(SILENT))
    how, why = read_failure(said)
    return ThereSeen(machine, ConnectResult(how, seen=why) if how else None, why)


def _hear(child: subprocess.Popen[bytes], probe: Probe, deadline: float) -> ConnectResult | None:
    """The service's answer; None if there was none, or the client gave up."""
    assert child.stdin and child.stdout
    if probe.greeting:
        try:
            child.stdin.write(probe.greeting)
            child.stdin.flush()
        except OSError:
            return None
    while (left := deadline - time.monotonic()) > 0:
        if not select.select([child.stdout], [], [], left)[0]:
            return None
        data = os.read(child.stdout.fileno(), 4096)
        if not data:
            # It exited: with an error of its own if it did not connect.
            code = child.wait(max(0.1, deadline - time.monotonic()))
            verdict = probe.closed() if code == 0 else None
            return ConnectResult(OPEN, verdict.ok, verdict.seen, heard=verdict.heard) if verdict else None
        if verdict := probe.receive(data):
            return ConnectResult(OPEN, verdict.ok, verdict.seen, heard=verdict.heard)
    return None
