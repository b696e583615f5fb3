"""Why a guest's process ended: from QEMU's own record of its run states, and what Dacha and the kernel know."""

from __future__ import annotations

import re
from typing import TYPE_CHECKING

from dacha.core.named import NamedTuple

if TYPE_CHECKING:
    from typing import Literal

    Reason = Literal[
        "saved",
        "asked",
        "powered-off",
        "inside",
        "installed",
        "host",
        "host-stop",
        "signal",
        "quit",
        "memory",
        "crash",
        "unknown",
    ]

# Reasons that a restart on failure does not follow.
ORDERLY: tuple[Reason, ...] = ("saved", "asked", "powered-off", "inside", "installed", "host-stop")

# A line of QEMU's log about one of the events that it is told to record (`hypervisor/command_line.py`).
_EVENT = re.compile(r"\d+@(?P<at>\d+\.\d+):(?P<name>\w+) ?(?P<rest>.*)")
_SIGNAL = re.compile(r"terminating on signal (?P<signal>\d+)(?: from pid (?P<pid>\d+) \((?P<who>[^)]*)\))?")
_STAMP = re.compile(r"\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d\.\d+Z ")
_SIGNALS = {1: "SIGHUP", 2: "SIGINT", 15: "SIGTERM"}
# QEMU's ShutdownCause (qapi/run-state.json), by number.
_CAUSES = {
    1: "host-error", 2: "host-qmp-quit", 3: "host-qmp-system-reset", 4: "host-signal", 5: "host-ui",
    6: "guest-shutdown", 7: "guest-reset", 8: "guest-panic",
}  # fmt: skip


class EndEvidence(NamedTuple):
    """What is known about a process that ended: QEMU's `log`; when its memory was `saved` to disk
    (Unix seconds, None if it was not); whether this host was `rebooted` since its start; when
    Dacha pressed its power button, and powered it off (Unix seconds, None if it did not); why the kernel `killed` it,
    and its message about a `fault`; whether the process ends with a restart of its system (`once`); the message of its
    kernel's `panic`."""

    log: str = ""
    rebooted: bool = False
    pressed: float | None = None
    forced: float | None = None
    killed: str | None = None
    fault: str | None = None
    once: bool = False
    panic: str | None = None
    saved: float | None = None


class End(NamedTuple):
    """An end: its reason, in words, and when (Unix seconds; None if nothing recorded it)."""

    reason: Reason
    words: str
    at: float | None


class _Log(NamedTuple):
    """QEMU's log: the cause of its shutdown, who sent it a signal, when it shut down, and its last message."""

    cause: str | None
    signal: tuple[int, int, str] | None
    at: float | None
    last: str


def end_of(seen: EndEvidence) -> End:
    """Why the process ended. A reason is given only if the evidence shows it; else it is "unknown"."""
    log = _read(seen.log)
    if seen.saved is not None:
        return End("saved", "its memory was saved to disk", log.at or seen.saved)
    if seen.forced is not None and log.cause in (None, "host-qmp-quit"):
        return End("powered-off", "powered off by Dacha", log.at or seen.forced)
    if log.signal:
        return _by_signal(log)
    if log.cause == "host-qmp-quit":
        return End("quit", "a program other than Dacha told QEMU to quit, over its monitor", log.at)
    if log.cause == "guest-shutdown":
        if seen.pressed is not None:
            return End("asked", "shut down, as its power button was pressed", log.at)
        after = f", after its kernel panicked: {seen.panic}" if seen.panic else ""
        return End("inside", f"powered off inside the guest{after}", log.at)
    if log.at and (seen.once or log.cause == "guest-reset"):
        return End("installed", "its system restarted, and this start was for one run only", log.at)
    if log.cause:
        return End("crash", f"QEMU ended: {log.cause}{_said(log)}", log.at)
    if seen.killed:
        return End("memory", f"the kernel killed QEMU: {seen.killed}", log.at)
    if seen.fault or log.last:
        return End("crash", f"QEMU crashed{_said(log)}" + (f" ({seen.fault})" if seen.fault else ""), None)
    if seen.rebooted:
        return End("host", "this host was restarted, or lost power, while it ran", None)
    return End("unknown", "QEMU ended without a message: it was killed, or it crashed", log.at)


def _by_signal(log: _Log) -> End:
    assert log.signal
    number, pid, who = log.signal
    name = _SIGNALS.get(number, f"signal {number}")
    if pid == 1:
        return End("host-stop", f"{name} from this host's first process: the host was shut down", log.at)
    sender = f"process {pid}{f' ({who})' if who else ''}" if pid else "an unknown process"
    return End("signal", f"QEMU received {name} from {sender}", log.at)


def _said(log: _Log) -> str:
    return f": {log.last}" if log.last else ""


def _read(text: str) -> _Log:
    cause, signal, at, last = None, None, None, ""
    for line in text.splitlines():
        if event := _EVENT.match(line):
            if event["name"] == "qemu_system_shutdown_request":
                number = re.match(r"reason=(\d+)", event["rest"])
                cause, at = _CAUSES.get(int(number[1]), "none") if number else None, float(event["at"])
            elif event["name"] == "runstate_set" and event["rest"].endswith("(shutdown)"):
                at = float(event["at"])
        elif found := _SIGNAL.search(line):
            signal = (int(found["signal"]), int(found["pid"] or 0), found["who"] or "")
        elif line.strip() and not re.search(r"warning: ", line):
            last = _STAMP.sub("", line.strip()).removeprefix("qemu-system-x86_64: ")
    return _Log(cause, signal, at, last)
