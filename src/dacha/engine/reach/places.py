"""Doors follow the place: they are closed and opened as this host moves."""

from __future__ import annotations

from dacha.core.apply.changes import OpenForward
from dacha.core.apply.difference import reforward
from dacha.core.errors import DachaError
from dacha.engine.apply.carry_out import Work, carry_out
from dacha.engine.disks.disks import silent
from dacha.engine.guest.observe import observe_guest
from dacha.engine.network import kernel, rules
from dacha.engine.workspace import Workspace


def follow(ws: Workspace) -> list[str]:
    """Let the doors of running guests be as the present place has them; what was done, in words. `ws` is the lab as it
    was applied, at this place. Doors are closed before others are opened. Raises DachaError if one cannot be closed."""
    if kernel.uses_kernel(ws):
        rules.follow(ws)
    doors = [n for n, g in ws.written.guests.items() if any(d.from_lan for d in g.doors) and ws.home.is_running(n)]
    found = [c for n in doors for c in reforward(ws.lab, ws.lab.guests[n], ws.plan, observe_guest(ws.home, n))]
    done: list[str] = []
    failure: DachaError | None = None
    for change in sorted(found, key=lambda c: isinstance(c, OpenForward)):
        try:
            carry_out(Work(ws, ws, silent), change)
            done.append(f"{change.guest}: {change.done()}")
        except DachaError as e:
            failure = e
    if failure:
        raise failure
    return done
