"""Run a program with limits on run time and output: for programs that relay a guest's output."""

from __future__ import annotations

import contextlib
import os
import selectors
import signal
import subprocess
import time
from collections.abc import Sequence

from dacha.core.named import NamedTuple

MOST = 1 << 18


class Said(NamedTuple):
    """The result: the exit code, None if it exceeded a limit; its whole output."""

    code: int | None
    text: str


def run_bounded(argv: Sequence[str], limit_s: float, *, given: str = "", most: int = MOST) -> Said:
    """Run a program with `given` on its standard input, for at most `limit_s` seconds and until it has written `most`
    bytes to stdout or stderr. Raises OSError if it cannot be started."""
    deadline, out, code = time.monotonic() + limit_s, bytearray(), None
    with subprocess.Popen(
        argv, stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, start_new_session=True
    ) as child:
        assert child.stdin and child.stdout
        try:
            with contextlib.suppress(BrokenPipeError):
                child.stdin.write(given.encode())
                child.stdin.close()
            with selectors.DefaultSelector() as waiting:
                waiting.register(child.stdout, selectors.EVENT_READ)
                while len(out) < most and waiting.select(max(0.0, deadline - time.monotonic())):
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
