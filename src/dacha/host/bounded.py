"""Run a program with limits on run time and output: for programs that relay a guest's output."""

from __future__ import annotations

import contextlib
import os
import selectors
import signal
import subprocess
import time
from collections.abc import Mapping, Sequence
from threading import Event

from dacha.core.named import NamedTuple

# How much output is read, in bytes; how often an event is looked at, in seconds.
MOST, LOOK_S = 1 << 18, 0.3


class Said(NamedTuple):
    """The result: the exit code, None if it exceeded a limit; its whole output."""

    code: int | None
    text: str


def run_bounded(
    argv: Sequence[str],
    limit_s: float,
    *,
    given: str = "",
    most: int = MOST,
    stopped: Event | None = None,
    env: Mapping[str, str] | None = None,
) -> Said:
    """Run a program with `given` on its standard input, for at most `limit_s` seconds and until it has written `most`
    bytes to stdout or stderr, or until `stopped` is set; `env` is its environment (None: this process's).
    Raises OSError if it cannot be started."""
    deadline, out, code = time.monotonic() + limit_s, bytearray(), None
    with subprocess.Popen(
        argv, stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, start_new_session=True, env=env
    ) as child:
        assert child.stdin and child.stdout
        try:
            with contextlib.suppress(BrokenPipeError):
                child.stdin.write(given.encode())
                child.stdin.close()
            with selectors.DefaultSelector() as waiting:
                waiting.register(child.stdout, selectors.EVENT_READ)
                while len(out) < most and _readable(waiting, deadline, stopped):
                    chunk = os.read(child.stdout.fileno(), 65536)
                    if not chunk:
                        with contextlib.suppress(subprocess.TimeoutExpired):
                            code = child.wait(max(0.1, deadline - time.monotonic()))
                        break
                    out += chunk
        finally:
            if child.poll() is None:
                with contextlib.suppress(ProcessLookupError):
                    os.killpg(child.pid, signal.SIGKILL)
    return Said(code, bytes(out[:most]).decode("utf-8", "replace"))


def _readable(waiting: selectors.DefaultSelector, deadline: float, stopped: Event | None) -> bool:
    """Wait for output: True if there is some, False at the deadline or once `stopped` is set."""
    while not (stopped and stopped.is_set()):
        left = max(0.0, deadline - time.monotonic())
        if waiting.select(min(left, LOOK_S) if stopped else left):
            return True
        if time.monotonic() >= deadline:
            return False
    return False
