"""Evidence about a guest itself: whether it runs, how far it has booted, and its SSH host key."""

from __future__ import annotations

import contextlib
import re
import time
from collections.abc import Callable

from dacha.core.harmless import harmless
from dacha.core.log.ends import end_of
from dacha.core.plan.doors import DoorPlan
from dacha.core.trace.seen.evidence import Evidence
from dacha.core.trace.seen.results import LastRun
from dacha.engine.console import panic_in, recent
from dacha.engine.guest.first_boot import trusted_key
from dacha.engine.log.ends import evidence
from dacha.engine.trace.asking import Told
from dacha.engine.workspace import Workspace
from dacha.formats.openssh import fingerprint
from dacha.host.probe.connect import host_key
from dacha.host.processes import boot_id

# A running guest accepts a connection within this time (seconds).
ARRIVE_S = 2.5
# A login prompt, or a shell prompt at the start of a line, whatever was typed after it.
_PROMPT = re.compile(rb"(?m)login: ?\r?$|^[\w@~:./-]{0,40} ?[#$] ")

# A shell prompt on the console.
_SHELL = re.compile(rb"(?m)^[\w@~:./-]{0,40} ?[#$] \Z")


def run_state(ws: Workspace, guest: str) -> str:
    from dacha.hypervisor.command_line import WATCH
    from dacha.hypervisor.monitor.qmp import Qmp

    with Qmp(ws.home.run(guest) / WATCH, timeout_s=1.0) as qmp:
        return str(qmp.execute("query-status")["status"])


def shows_shell(tail: bytes) -> bool:
    """True for a console that ends with a shell prompt."""
    return _SHELL.search(tail.rstrip(b"\r\n")) is not None


def arrived(ws: Workspace, door: DoorPlan, enough: Callable[[], bool]) -> bool:
    """Whether the guest itself has a connection through this user-mode door: QEMU accepts first. Checked a moment after
    one was made, until it is there or `enough` is known without it."""
    from dacha.hypervisor.command_line import WATCH
    from dacha.hypervisor.live.user_network import taken
    from dacha.hypervisor.monitor.qmp import Qmp

    wanted = {(f.port, f.address, f.to) for f in door.forwards()}
    until = time.monotonic() + ARRIVE_S
    while time.monotonic() < until and not enough():
        time.sleep(0.3)
        with Qmp(ws.home.run(door.door.guest) / WATCH, timeout_s=1.0) as qmp:
            if wanted & taken(qmp):
                return True
    return False


def last_run(ws: Workspace, guest: str) -> LastRun | None:
    """The last run of a guest that is off; None if it never ran."""
    record = ws.home.read(guest)
    if record.process is None:
        return None
    end = end_of(evidence(ws.home, guest, record))
    console = ""
    with contextlib.suppress(OSError):
        console = recent(ws.home, guest).decode(errors="replace")
    known = harmless(end.words)[:200] if end.reason != "unknown" else ""
    return LastRun(record.process.boot == boot_id(), known, console)


def with_guest(e: Evidence, told: Told) -> Evidence:
    tail = told.get("console") or b""
    booted = None
    if told.get("agent") is not None:
        booted = "its guest agent answers"
    elif _PROMPT.search(tail):
        booted = "its console shows a prompt"
    run = e.run._replace(
        panic=panic_in(tail),
        shown=tail.decode("utf-8", "replace"),
        console_empty=told.get("console") == b"",
        booted=booted,
        status=told.get("status") or "",
        room=told.get("room"),
    )
    return e._replace(
        run=run,
        access=e.access._replace(agent=told.get("agent") is not None),
        tried=e.tried._replace(direct=told.get("direct"), through=told.get("through")),
    )


def key(ws: Workspace, guest: str, address: str, port: int) -> bool | None:
    known = trusted_key(ws.home, guest).split()
    if len(known) < 2 or not ws.lab.guests[guest].first_boot:
        return None
    shown = host_key(address, port, 2)
    return None if shown is None else shown == " ".join(known[:2])


def key_matches(ws: Workspace, guest: str, shown: str) -> bool | None:
    """Whether the host key presented at a login (its fingerprint) is the trusted one; None if none is."""
    known = trusted_key(ws.home, guest)
    if not known or not ws.lab.guests[guest].first_boot:
        return None
    return shown == fingerprint(known)
