"""Start the guests that start with this host."""

from __future__ import annotations

import time
from collections.abc import Callable

from dacha.engine.apply.apply import apply
from dacha.engine.reach.ready import await_ready
from dacha.engine.workspace import Workspace


def start_guests(ws: Workspace, log: Callable[[str], None]) -> None:
    """Start these guests in their order, each after its delay; a failure does not prevent the others."""
    ordered = sorted((g for g in ws.lab.guests.values() if g.start.at_boot), key=lambda g: g.start.order)
    for guest in ordered:
        time.sleep(guest.start.delay_s)
        with ws.home.lock("caretaker", ws.path):
            record = ws.home.read(guest.name)
            if record.stopped_on_purpose:
                record.stopped_on_purpose = False
                ws.home.write(guest.name, record)
            outcome = apply(ws, lambda subject, text, took: log(f"{subject}: {text}"), only={guest.name})
        for change, error in outcome.failed:
            log(f"{guest.name}: {change} failed: " + " / ".join(error.lines()))
        if not outcome.failed and not await_ready(ws.again(), guest.name):
            log(f"{guest.name} did not respond in time: the guests after it start all the same")
