"""What is seen of a guest itself: whether it runs, how far its system has come, whose key its SSH server shows."""

from __future__ import annotations

import os
import re
from typing import Any

from dacha.core.trace.evidence import Evidence
from dacha.engine.guest.desired import host_key_public
from dacha.engine.guest.observe import CONSOLE_START
from dacha.engine.workspace import Workspace
from dacha.host.probe.connect import host_key

_PANIC = re.compile(rb"Kernel panic[^\r\n]*")
# A login prompt, or a shell's at the beginning of a line, whatever was typed behind it.
_PROMPT = re.compile(rb"(?m)login: ?\r?$|^[\w@~:./-]{0,40} ?[#$] ")
_ESCAPES = re.compile(rb"\x1b\[[0-9;?]*[A-Za-z]")


def console(ws: Workspace, guest: str) -> bytes:
    """The end of what this start has put on the serial console."""
    folder = ws.home.guest(guest)
    try:
        begin = int((folder / CONSOLE_START).read_text())
    except (OSError, ValueError):
        begin = 0
    with (folder / "console.log").open("rb") as f:
        size = f.seek(0, os.SEEK_END)
        # A long record was cut to its end since: all that is left of it is this start's.
        f.seek(max(begin if begin <= size else 0, size - 8192))
        return f.read()


def run_state(ws: Workspace, guest: str) -> str:
    from dacha.hypervisor.command_line import WATCH
    from dacha.hypervisor.monitor.qmp import Qmp

    with Qmp(ws.home.run(guest) / WATCH, timeout_s=1.0) as qmp:
        return str(qmp.execute("query-status")["status"])


def with_guest(e: Evidence, told: dict[str, Any]) -> Evidence:
    tail = _ESCAPES.sub(b"", told.get("console") or b"")
    panic = _PANIC.findall(tail)
    booted = None
    if told.get("agent") is not None:
        booted = "its guest agent answers"
    elif _PROMPT.search(tail):
        booted = "its console shows a prompt"
    return e._replace(
        panic=panic[-1].decode("ascii", "replace")[:80] if panic else None,
        booted=booted,
        status=told.get("status") or "",
        direct=told.get("direct"),
        through=told.get("through"),
    )


def key(ws: Workspace, guest: str, address: str, port: int) -> bool | None:
    known = host_key_public(ws.home, guest).split()
    if len(known) < 2 or not ws.lab.guests[guest].first_boot:
        return None
    shown = host_key(address, port, 2)
    return None if shown is None else shown == " ".join(known[:2])
