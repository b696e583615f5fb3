"""A program run with limits on its time and on what it may say: for those that pass on a guest's words."""

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
    """What came of it: its exit code, None where its time was over or it said too much; all that it said."""

    code: int | None
    text: str


def run_bounded(argv: Sequence[str], limit_s: float, *, given: str = "", most: int = MOST) -> Said:
    """Run a program with `given` on its standard input, for `limit_s` seconds at the longest and until it has said
    `most` bytes, on whichever output. Raises OSError when it cannot be started."""
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
