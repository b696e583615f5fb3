"""A small blocking client for QEMU's machine protocol (QEMU documentation: interop/qmp-spec).

QEMU's published client is based on asyncio, whose import costs a quick command more than its own work; this one sends a
command, reads until its answer, and keeps the events in between.
"""

from __future__ import annotations

import json
import socket
import time
from pathlib import Path
from typing import Any

from dacha.core.errors import HostError, PeerError
from dacha.host.records import parse
from dacha.host.unix_socket import connect_to_guest, peer

# A longer line is not a valid answer; the limit bounds memory.
LINE_MOST = 8 << 20


class QmpRefused(HostError):
    """QEMU answered a command with an error; `what` has its message, `kind` its error class."""

    def __init__(self, command: str, kind: str, words: str) -> None:
        super().__init__(f"QEMU refused {command}: {words}")
        self.kind = kind


class Qmp:
    """One connection to a monitor socket. A monitor serves one client at a time; others wait."""

    def __init__(self, path: Path, timeout_s: float = 5.0) -> None:
        """Connect and leave negotiation mode. Raises OSError if no process listens, PeerError for another process or
        protocol, TimeoutError if the monitor does not respond (QEMU hangs, or another client is connected)."""
        self._timeout_s = timeout_s
        self._buffer = b""
        self.events: list[dict[str, Any]] = []
        self._socket = connect_to_guest(path, timeout_s)
        try:
            self.pid, self.uid = peer(self._socket)
            deadline = time.monotonic() + timeout_s
            # An event for the client before this one may still come first.
            while "event" in (greeting := self._read(deadline)):
                pass
            if "QMP" not in greeting:
                raise PeerError("the monitor socket does not speak QMP", where=str(path))
            self.execute("qmp_capabilities")
        except BaseException:
            self._socket.close()
            raise

    def __enter__(self) -> Qmp:
        return self

    def __exit__(self, *exc: object) -> None:
        self._socket.close()

    def execute(self, command: str, arguments: dict[str, Any] | None = None, descriptors: tuple[int, ...] = ()) -> Any:
        """Send one command, with open files if needed, and return its result. Raises QmpRefused, TimeoutError,
        PeerError."""
        request: dict[str, Any] = {"execute": command}
        if arguments:
            request["arguments"] = arguments
        try:
            line = json.dumps(request).encode() + b"\n"
            if descriptors:
                socket.send_fds(self._socket, [line], descriptors)
            else:
                self._socket.sendall(line)
        except OSError as e:
            raise PeerError("QEMU closed its monitor", why=str(e)) from e
        deadline = time.monotonic() + self._timeout_s
        while True:
            message = self._read(deadline)
            if "event" in message:
                self.events.append(message)
            elif "error" in message:
                error = message["error"]
                raise QmpRefused(command, error.get("class", ""), error.get("desc", ""))
            elif "return" in message:
                return message["return"]

    def human(self, line: str) -> str:
        """A command of the human monitor: its answers and its errors are text."""
        return str(self.execute("human-monitor-command", {"command-line": line}))

    def wait_event(self, names: set[str], timeout_s: float) -> dict[str, Any] | None:
        """The next event with one of these names; None if none arrived in time or the monitor closed."""
        deadline = time.monotonic() + timeout_s
        while True:
            for n, event in enumerate(self.events):
                if event["event"] in names:
                    del self.events[: n + 1]
                    return event
            self.events.clear()
            try:
                message = self._read(deadline)
            except (TimeoutError, PeerError):
                return None
            if "event" in message:
                self.events.append(message)

    def _read(self, deadline: float) -> dict[str, Any]:
        while b"\n" not in self._buffer:
            left = deadline - time.monotonic()
            if left <= 0:
                raise TimeoutError("the monitor did not answer in time")
            self._socket.settimeout(left)
            try:
                chunk = self._socket.recv(65536)
            except ConnectionError as e:
                raise PeerError("QEMU closed its monitor", why=str(e)) from e
            if not chunk:
                raise PeerError("QEMU closed its monitor")
            self._buffer += chunk
            if len(self._buffer) > LINE_MOST:
                raise PeerError("the monitor sent an endless line")
        line, _, self._buffer = self._buffer.partition(b"\n")
        try:
            message = parse(line)
        except ValueError as e:
            raise PeerError("the monitor sent invalid JSON", why=line[:80].decode(errors="replace")) from e
        if not isinstance(message, dict):
            raise PeerError("the monitor sent an invalid QMP message")
        return message
