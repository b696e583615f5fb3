"""The caretaker as seen by commands: started when a network needs it, informed of changes, stopped when none does."""

from __future__ import annotations

import contextlib
import os
import signal
import subprocess
import sys
import time
from functools import cache
from pathlib import Path

from dacha.core.errors import HostError
from dacha.core.harmless import harmless
from dacha.engine.home import Home
from dacha.engine.workspace import Workspace
from dacha.host.accounts import with_few_powers
from dacha.host.files import held
from dacha.host.processes import Process, alive, identify, process_from, wait_gone
from dacha.host.records import read_record, write_record

START_S, STOP_S = 120.0, 20.0
VERSION = 1


# A log file grows to this many bytes, then becomes the previous one; and each of its sources may write so many lines
# per minute: a guest that causes log lines can neither fill the disk nor hide others.
LOG_MOST, LINES_MOST, MINUTE_S = 4 << 20, 300, 60.0


class RotatingLog:
    """The caretaker's log. Writing to it never fails."""

    def __init__(self, path: Path, *, echo: bool = False) -> None:
        """With `echo` each line also goes to standard error."""
        self._path, self._echo = path, echo
        self._buckets: dict[str, tuple[float, int]] = {}

    def say(self, text: str, bucket: str = "") -> None:
        """Write one line; `bucket` is its source, if a guest can cause it."""
        now = time.monotonic()
        since, count = self._buckets.get(bucket, (now, 0))
        if now - since >= MINUTE_S:
            if count > LINES_MOST:
                self._write(f"{bucket or 'here'}: {count - LINES_MOST} more lines were omitted")
            since, count = now, 0
        self._buckets[bucket] = (since, count + 1)
        if not bucket or count < LINES_MOST:
            self._write(text)

    def _write(self, text: str) -> None:
        line = f"{time.strftime('%Y-%m-%d %H:%M:%S')} {harmless(text)}\n"
        with contextlib.suppress(OSError, ValueError):
            if self._path.stat().st_size > LOG_MOST:
                os.replace(self._path, self._path.with_suffix(".log.1"))
        with contextlib.suppress(OSError):
            fd = os.open(self._path, os.O_WRONLY | os.O_APPEND | os.O_CREAT | os.O_NOFOLLOW | os.O_CLOEXEC, 0o600)
            try:
                os.write(fd, line.encode(errors="replace"))
            finally:
                os.close(fd)
        if self._echo:
            with contextlib.suppress(OSError):
                os.write(2, line.encode(errors="replace"))


@cache
def program() -> str:
    """The installation of Dacha that this process has loaded: in another installation, this file is another file."""
    file = Path(__file__).stat()
    return f"{file.st_ino} {file.st_mtime_ns}"


def note_running(home: Home) -> None:
    """Called by the caretaker's own process: record its identity."""
    write_record(home.caretaker_note, VERSION, {"process": identify(os.getpid()), "program": program()})


def older(home: Home) -> bool:
    """True if another, older installation of Dacha started the caretaker."""
    return read_record(home.caretaker_note, VERSION, "process").get("program") != program()


def running(home: Home) -> Process | None:
    """The caretaker's process, None if it is not running."""
    if not held(home.caretaker_lock):
        return None
    noted = process_from(read_record(home.caretaker_note, VERSION, "process").get("process"))
    return noted if noted and alive(noted) else None


def start(ws: Workspace) -> None:
    """Start the caretaker, by the service manager if that manages it, and wait until it is up. Raises HostError with
    its messages if it is not."""
    from dacha.engine.caretaker import unit

    log, child = ws.home.caretaker_log, None
    if not unit.start(ws.lab.name):
        with log.open("ab") as out:
            child = subprocess.Popen(
                with_few_powers([sys.executable, "-P", "-m", "dacha.caretaker.run", str(ws.path)]),
                stdin=subprocess.DEVNULL, stdout=out, stderr=out, start_new_session=True,
            )  # fmt: skip
    await_running(ws.home, child)


def await_running(home: Home, child: subprocess.Popen[bytes] | None = None) -> None:
    """Wait until the caretaker that was just started is up. Raises HostError with its messages if it is not, or if its
    process (`child`) ends."""
    deadline, log = time.monotonic() + START_S, home.caretaker_log
    while running(home) is None:
        if (child and child.poll() is not None) or time.monotonic() > deadline:
            words = log.read_text(errors="replace").splitlines()[-3:] if log.exists() else []
            raise HostError("the caretaker did not start", why="\n".join(words), remedy=f"see its log: {log}")
        time.sleep(0.01)


def tell(home: Home) -> None:
    """Let the caretaker read the lab again."""
    process = running(home)
    if process:
        os.kill(process.pid, signal.SIGHUP)


def stop(home: Home) -> bool:
    """Stop the caretaker; False if it is not running. Guests and doors are not affected."""
    from dacha.engine.caretaker import unit

    process = running(home)
    if process is None:
        return False
    # It may run beside its service: then it is stopped like any other process.
    if unit.stop(home.lab) and not alive(process):
        return True
    os.kill(process.pid, signal.SIGTERM)
    if not wait_gone(process, STOP_S):
        os.kill(process.pid, signal.SIGKILL)
        wait_gone(process, STOP_S)
    return True
