"""A process that lets guests run again if the command that stopped them is killed, or takes too long.

It is started before the first guest is stopped or frozen, and waits for a word on its standard input. Its end without
that word means that the command died.
"""

from __future__ import annotations

import contextlib
import select
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

from dacha.core.errors import DachaError
from dacha.hypervisor.command_line import QMP
from dacha.hypervisor.monitor import agent, memory
from dacha.hypervisor.monitor.qmp import Qmp

# How long file systems may stay frozen (seconds), and how long a guest's agent may take to answer.
FROZEN_S, AGENT_S = 30.0, 10.0
_DONE = b"done\n"


@contextlib.contextmanager
def guarded(frozen: list[Path], stopped: list[Path], limit_s: float) -> Iterator[None]:
    """Guard guests, by their run folders: those whose file systems are about to be frozen, and those whose virtual CPUs
    are about to be stopped. Their command lets them run again itself."""
    if not frozen and not stopped:
        yield
        return
    words = [f"thaw={path}" for path in frozen] + [f"cont={path}" for path in stopped]
    child = subprocess.Popen(
        [sys.executable, "-P", "-m", "dacha.engine.states.guard", str(limit_s), *words],
        stdin=subprocess.PIPE, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, start_new_session=True, cwd="/",
    )  # fmt: skip
    assert child.stdin
    try:
        yield
    finally:
        with contextlib.suppress(OSError):
            child.stdin.write(_DONE)
            child.stdin.close()
        child.wait()


def freeze(run: Path) -> bool:
    """Let a guest's agent write everything to its disks and freeze its file systems; False if it does not."""
    return isinstance(agent.ask(run, "guest-fsfreeze-freeze", AGENT_S), int)


def thaw(run: Path) -> bool:
    """Let a guest's file systems be written again; False if its agent does not answer."""
    return agent.ask(run, "guest-fsfreeze-thaw", AGENT_S) is not None


def let_run(run: Path) -> None:
    """Let a guest's virtual CPUs run again. Raises DachaError, OSError."""
    with Qmp(run / QMP, timeout_s=30.0) as qmp:
        if qmp.execute("query-status")["status"] in ("paused", "finish-migrate", "postmigrate"):
            memory.let_run(qmp)


def main(limit_s: str, *words: str) -> None:
    """Wait for the word; without it, thaw and resume the guests."""
    ready, _, _ = select.select([sys.stdin], [], [], float(limit_s))
    if ready and sys.stdin.buffer.readline() == _DONE:
        return
    for kind, act in (("cont", let_run), ("thaw", thaw)):
        for word in words:
            if word.startswith(f"{kind}="):
                with contextlib.suppress(DachaError, OSError):
                    act(Path(word.partition("=")[2]))


if __name__ == "__main__":
    main(*sys.argv[1:])
