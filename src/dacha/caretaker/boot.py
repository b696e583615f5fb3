"""Guests start with this host, and stop with it."""

from __future__ import annotations

import itertools
import subprocess
import time
from collections.abc import Callable

from dacha.core.apply.changes import StartGuest
from dacha.core.errors import DachaError
from dacha.engine.apply.apply import apply
from dacha.engine.inside.clock import set_clock
from dacha.engine.power import power, saving
from dacha.engine.power.stopped import may_start
from dacha.engine.reach.ready import await_ready
from dacha.engine.workspace import Workspace
from dacha.host.facts import program

# A service manager that does not answer within this time (seconds) is not shutting down.
ANSWER_S = 10.0
# How long a login may take that sets the clock of a guest (seconds).
CLOCK_S = 60.0
# A guest that could not be started is tried again after these pauses (seconds): just after its boot, this host may be
# too busy, or lack a link or a disk that comes late.
AGAIN_S = (5.0, 15.0, 45.0)


def start_guests(ws: Workspace, log: Callable[[str], None]) -> None:
    """Start these guests in their order, each after its delay and after those that it waits for; a failure does not
    prevent the others. Those that failed are tried again, a few times."""
    ordered = sorted((g for g in ws.lab.guests.values() if g.start.at_boot), key=lambda g: g.start.order)
    awaited: list[str] = []
    continued: list[str] = []
    failed: list[str] = []
    order = 0
    for guest in ordered:
        if guest.start.order > order:
            for name in awaited:
                if not await_ready(ws.again(), name):
                    log(f"{name} did not respond in time: the guests after it start all the same")
            awaited.clear()
        order = guest.start.order
        time.sleep(guest.start.delay_s)
        if not _start(ws, guest.name, log, continued, first=True):
            failed.append(guest.name)
        elif guest.start.ready_s:
            awaited.append(guest.name)
    for pause in AGAIN_S if failed else ():
        log(f"in {pause:.0f} s again: {', '.join(failed)}")
        time.sleep(pause)
        failed = [name for name in failed if not _start(ws.again(), name, log, continued)]
        if not failed:
            break
    for name in continued:
        try:
            log(f"{name}: {set_clock(ws.again(), name, CLOCK_S).words()}")
        except DachaError as e:
            log(" / ".join(e.lines()))


def _start(ws: Workspace, name: str, log: Callable[[str], None], continued: list[str], *, first: bool = False) -> bool:
    """Start one guest; False if that failed. What a command stopped since the `first` time stays off. A guest whose
    saved state is continued is added to `continued`."""
    try:
        with ws.home.lock("caretaker", ws.path):
            if first:
                may_start(ws.home, [name])
            outcome = apply(ws, lambda subject, text, took: log(f"{subject}: {text}"), only={name})
    except DachaError as e:
        log(f"{name}: not started: " + " / ".join(e.lines()))
        return False
    for change, error in outcome.failed:
        log(f"{name}: {change} failed: " + " / ".join(error.lines()))
    continued += [c.guest for c in outcome.done if isinstance(c, StartGuest) and c.saved]
    return not outcome.failed


def stop_guests(ws: Workspace, report: Callable[[str, str, float], None]) -> None:
    """Stop every running guest, those that start last first. Each group has the time that its guests may take; then
    they are powered off, as this host does not wait longer. They are not recorded as stopped on purpose."""
    running = [n for n in ws.home.guests() if ws.home.is_running(n)]
    orders = {n: ws.lab.guests[n].start.order if n in ws.lab.guests else 0 for n in running}
    running.sort(key=lambda n: -orders[n])
    with ws.home.lock("caretaker stop", ws.path):
        for _, group in itertools.groupby(running, key=lambda n: orders[n]):
            names = [n for n in group if not _saved(ws, n, report)]
            if not names:
                continue
            wait_s = max(ws.lab.guests[n].stop_after_s if n in ws.lab.guests else 60.0 for n in names)
            try:
                power.stop(ws.home, names, wait_s=wait_s, force=True, on_purpose=False, report=report)
            except DachaError as e:
                report("guests", " / ".join(e.lines()), 0.0)


def _saved(ws: Workspace, name: str, report: Callable[[str, str, float], None]) -> bool:
    """Save a guest to disk if its lab file says so; False if it must be stopped instead. It continues at the next boot
    if it starts with this host, as it was not stopped on purpose."""
    guest = ws.lab.guests.get(name)
    if guest is None or not guest.start.save:
        return False
    began = time.monotonic()
    try:
        saving.save(ws.home, name)
        may_start(ws.home, [name])
    except DachaError as e:
        report(f"guest {name}", "cannot be saved, and is stopped: " + " / ".join(e.lines()), 0.0)
        return False
    report(f"guest {name}", "saved to disk", time.monotonic() - began)
    return True


def host_stops() -> bool:
    """True if systemd is shutting this host down, or this user's own manager ends (systemctl(1), is-system-running)."""
    systemctl = program("systemctl")
    if systemctl is None:
        return False
    for words in ((), ("--user",)):
        try:
            done = subprocess.run(
                [systemctl, *words, "is-system-running"], capture_output=True, text=True, timeout=ANSWER_S, check=False
            )
        except (OSError, subprocess.TimeoutExpired):
            continue
        if done.stdout.strip() == "stopping":
            return True
    return False
