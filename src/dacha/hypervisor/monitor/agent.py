"""The guest agent: a program inside a guest that answers on a channel of its own (QEMU documentation:
interop/qemu-ga).

Many guests have none; every request has a time limit, and "no answer" is a regular result.
"""

from __future__ import annotations

import base64
import json
import socket
import time
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

from dacha.core.errors import DachaError, PeerError
from dacha.core.named import NamedTuple
from dacha.host.unix_socket import connect_to_guest
from dacha.hypervisor.monitor.qmp import Qmp

# Sockets in a guest's run folder: the agent's channel, and a monitor for queries.
AGENT, WATCH = "agent", "watch"
# A limit for answers: those of a guest with a thousand adapters are shorter.
ANSWER_MOST = 1 << 20
# How long a program may run while its connection is held (seconds): the channel serves one client at a time.
HELD_S = 15.0
# Guests whose channel this process has synchronized: no partial line is left in it.
_SOUND: set[Path] = set()
# Exceptions for anything but a valid answer.
WRONG = (OSError, ValueError, KeyError, TypeError, AttributeError, RecursionError, PeerError)


def addresses(run: Path, timeout_s: float = 1.0) -> list[tuple[str, str]] | None:
    """The addresses that the guest reports: (hardware address, "ADDRESS/PREFIX"), without loopback; None if no agent
    answers."""
    told = ask(run, "guest-network-get-interfaces", timeout_s)
    if not isinstance(told, list):
        return None
    found = []
    # Malformed parts of the answer are ignored.
    for link in (x for x in told if isinstance(x, dict)):
        rows = link.get("ip-addresses")
        for a in (x for x in rows if isinstance(x, dict)) if isinstance(rows, list) else ():
            if link.get("name") != "lo" and "ip-address" in a:
                found.append((str(link.get("hardware-address", "")), f"{a['ip-address']}/{a.get('prefix')}"))
    return found


def set_password(run: Path, user: str, hashed: str, timeout_s: float = 5.0) -> bool:
    """Let the agent set a user's password by its hash (crypt(5)); False if it does not, or there is none."""
    arguments = {"username": user, "password": base64.b64encode(hashed.encode()).decode(), "crypted": True}
    return ask(run, "guest-set-user-password", timeout_s, arguments) == {}


class Ran(NamedTuple):
    """The result of a program that the agent ran: its exit code (None after a signal), its output."""

    code: int | None
    out: bytes
    err: bytes


def run_script(run: Path, script: str, timeout_s: float = 5.0) -> str | None:
    """The output of a POSIX shell script in the guest, run by its agent; None if the agent runs nothing, or not within
    the time."""
    ran = run_program(run, ("/bin/sh", "-c", script), timeout_s)
    return ran.out.decode("utf-8", "replace") if ran else None


def run_program(
    run: Path,
    argv: Sequence[str],
    timeout_s: float,
    *,
    given: bytes = b"",
    poll_s: float = 0.2,
    begun: Callable[[], None] = lambda: None,
) -> Ran | None:
    """Run a program in the guest as its agent's user, usually root, with `given` on its standard input; None if the
    agent runs nothing, or has not reported its end within the time. The agent is polled every `poll_s` seconds, and
    less often the longer it takes; `begun` is called when it has confirmed the start."""
    deadline = time.monotonic() + timeout_s
    arguments: dict[str, Any] = {"path": argv[0], "arg": list(argv[1:]), "capture-output": True}
    if given:
        arguments["input-data"] = base64.b64encode(given).decode()
    channel: Channel | None = None
    try:
        channel = Channel(run, timeout_s)
        pid = channel.ask("guest-exec", deadline, arguments)["pid"]
        begun()
        held = time.monotonic() + HELD_S
        while isinstance(pid, int) and (left := deadline - time.monotonic()) > 0:
            # One connection for a short program; during a long one, others may use the channel.
            if channel is not None and time.monotonic() > held:
                channel.close()
                channel = None
            which = {"pid": pid}
            command = "guest-exec-status"
            state = channel.ask(command, deadline, which) if channel else ask(run, command, left, which)
            if not isinstance(state, dict):
                return None
            if state.get("exited"):
                return _ran(state)
            time.sleep(min(poll_s, max(0.0, left)))
            poll_s = min(max(0.2, poll_s), poll_s * 1.5)
    except WRONG:
        pass
    finally:
        if channel:
            channel.close()
    return None


def _ran(state: dict[str, Any]) -> Ran:
    """A program's output, from the agent's answer. Raises ValueError for invalid base64."""
    out, err = (base64.b64decode(str(state.get(which, ""))) for which in ("out-data", "err-data"))
    code = state.get("exitcode")
    return Ran(code if isinstance(code, int) else None, out, err)


def ask(run: Path, command: str, timeout_s: float = 1.0, arguments: dict[str, Any] | None = None) -> Any | None:
    """The answer to one agent command, or None if no agent answers in time."""
    try:
        channel = Channel(run, timeout_s)
    except (OSError, PeerError):
        return None
    try:
        return channel.ask(command, time.monotonic() + timeout_s, arguments)
    except WRONG:
        return None
    finally:
        channel.close()


class Channel:
    """A connection to a guest's agent. Raises OSError or PeerError if there is none.

    `guest-sync-delimited` separates the first answer from older ones: its answer follows a 0xFF byte and contains our
    number. A slow agent still answers earlier commands whose client gave up.
    """

    def __init__(self, run: Path, timeout_s: float) -> None:
        self._run, self._socket = run, connect_to_guest(run / AGENT, timeout_s)
        self._lines = _Lines(self._socket)
        self._token = time.monotonic_ns() & 0x7FFFFFFF
        self._synced = False

    def ask(self, command: str, deadline: float, arguments: dict[str, Any] | None = None) -> Any:
        """The answer to a command, until a moment of the monotonic clock. Raises one of WRONG."""
        said = json.dumps({"execute": command} | ({"arguments": arguments} if arguments else {})).encode() + b"\n"
        if not self._synced:
            # Both together: with an agent whose every answer takes seconds, that saves one of them.
            sync = {"execute": "guest-sync-delimited", "arguments": {"id": self._token}}
            # 0xFF terminates an unfinished command, which is answered with an error.
            first = b"" if self._run in _SOUND else b"\xff"
            said = first + json.dumps(sync).encode() + b"\n" + said
            _SOUND.discard(self._run)
        self._socket.settimeout(max(0.01, deadline - time.monotonic()))
        self._socket.sendall(said)
        # Earlier commands that were given up are answered first: those answers are skipped.
        while not self._synced:
            line = self._lines.next(deadline)
            # Any value may come: an agent may lie.
            told = json.loads(line.lstrip(b"\xff")) if line.startswith(b"\xff") else None
            self._synced = isinstance(told, dict) and told.get("return") == self._token
        _SOUND.add(self._run)
        return json.loads(self._lines.next(deadline))["return"]

    def close(self) -> None:
        """Close the connection."""
        self._socket.close()


def runs(run: Path, timeout_s: float = 2.0) -> bool | None:
    """Whether a program in the guest has the agent's channel open, as QEMU sees it (`frontend-open` of query-chardev):
    False proves that no agent runs now, True that one runs, however long it takes to answer. None if QEMU does not
    answer."""
    try:
        with Qmp(run / WATCH, timeout_s) as monitor:
            told = monitor.execute("query-chardev")
    except (OSError, DachaError):
        return None
    found = [x for x in told if isinstance(x, dict) and x.get("label") == AGENT] if isinstance(told, list) else []
    return bool(found[0].get("frontend-open")) if found else None


def answers(run: Path, timeout_s: float) -> bool:
    """Whether an agent answers within the time. If none runs in the guest, that is known at once."""
    return runs(run) is not False and ask(run, "guest-ping", timeout_s) is not None


class _Lines:
    """Receives an agent's answers, line by line. Raises ValueError for one that does not end: time and size are
    limited."""

    def __init__(self, s: socket.socket) -> None:
        self._socket, self._buffer, self._read = s, b"", 0

    def next(self, deadline: float) -> bytes:
        while b"\n" not in self._buffer:
            left = deadline - time.monotonic()
            if left <= 0 or self._read > ANSWER_MOST:
                raise ValueError("the agent's answer does not end")
            self._socket.settimeout(left)
            chunk = self._socket.recv(65536)
            if not chunk:
                raise ValueError("the agent's channel closed")
            self._buffer += chunk
            self._read += len(chunk)
        line, _, self._buffer = self._buffer.partition(b"\n")
        return line
