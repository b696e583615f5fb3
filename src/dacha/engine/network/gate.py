"""The gates of guests in user mode: started before each guest, and updated with new rules."""

from __future__ import annotations

import contextlib
import fcntl
import os
import socket
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

from dacha.core.apply import gate_rules
from dacha.core.apply.machine import Machine
from dacha.core.named import NamedTuple
from dacha.engine.workspace import Workspace
from dacha.host import ask_first
from dacha.host.accounts import Account, become
from dacha.host.confine import Protection
from dacha.hypervisor import gate

RULES = "gate"


class Asked(NamedTuple):
    """The gate of a guest's process: the end of a socket, and a process id."""

    channel: int
    process: int


def protection() -> Protection:
    """Whether this host supports gates."""
    why = ask_first.missing()
    return Protection("gate", not why, f"{why}; guests in user mode can reach services on this host's loopback")


@contextlib.contextmanager
def opened(ws: Workspace, machine: Machine, account: Account | None, *, low_ports: bool) -> Iterator[Asked | None]:
    """The gate of a guest that is about to start; None if it needs none, or this host does not support it."""
    if not gate_rules.asks(machine) or ask_first.missing():
        yield None
        return
    file = _write(ws.home.guest(machine["guest"]) / RULES, gate_rules.lines(ws.lab, ws.plan, machine))
    mine, its = socket.socketpair()
    lock = _lock(ws.home.gate_lock(machine["guest"]))
    try:
        command = [sys.executable, "-I", "-S", gate.__file__, str(its.fileno()), str(file)]
        # The same privileges as QEMU's: fewer would not allow inspecting it (ptrace(2)).
        command = (become(account, low_ports=low_ports) if account else []) + command
        child = subprocess.Popen(
            command, stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
            start_new_session=True, pass_fds=(its.fileno(), file, lock), cwd="/",
        )  # fmt: skip
        its.close()
        yield Asked(mine.fileno(), child.pid)
    finally:
        os.close(file)
        os.close(lock)
        mine.close()
        its.close()


def _lock(path: Path) -> int:
    """A locked descriptor of a file; unlocked if a former gate still holds it for a moment."""
    fd = os.open(path, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC | os.O_NOFOLLOW, 0o600)
    with contextlib.suppress(BlockingIOError):
        fcntl.flock(fd, fcntl.LOCK_EX | fcntl.LOCK_NB)
    return fd


def renew(ws: Workspace, machines: dict[str, Machine]) -> None:
    """Write new rules for the gates of running guests; `machines` are those they were started with."""
    for name, machine in machines.items():
        if (ws.home.guest(name) / RULES).is_file() and gate_rules.asks(machine):
            os.close(_write(ws.home.guest(name) / RULES, gate_rules.lines(ws.lab, ws.plan, machine)))


def _write(path: Path, lines: list[str]) -> int:
    """Write rules into the file that a gate has open, so never replace it; returns a descriptor for reading."""
    text = "".join(f"{line}\n" for line in lines).encode()
    fd = os.open(path, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC | os.O_NOFOLLOW, 0o600)
    try:
        os.pwrite(fd, text, 0)
        os.ftruncate(fd, len(text))
        return os.open(f"/proc/self/fd/{fd}", os.O_RDONLY | os.O_CLOEXEC)
    finally:
        os.close(fd)
