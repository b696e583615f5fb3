"""Doors follow the place: they are closed and opened as this host moves."""

from __future__ import annotations

from dacha.core.apply.changes import CloseForward, OpenForward
from dacha.core.apply.in_force import in_force
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
    done: list[str] = []
    opening: list[OpenForward] = []
    work = Work(ws, ws, silent)
    failure: DachaError | None = None
    for name, guest in ws.lab.guests.items():
        if not any(d.from_lan for d in ws.written.guests[name].doors) or not ws.home.is_running(name):
            continue
        seen = observe_guest(ws.home, name)
        if seen.forwards is None:
            continue
        plan = in_force(ws.lab, ws.plan, {name: seen.machine}) if seen.machine else ws.plan
        wanted = plan.forwards_of(name, [d.name for d in guest.doors])
        for forward in sorted(seen.forwards - wanted.keys()):
            try:
                carry_out(work, CloseForward(name, forward))
                done.append(f"{name}: closed {forward}")
            except DachaError as e:
                failure = e
        opening += [OpenForward(name, door, f) for f, door in wanted.items() if f not in seen.forwards]
    for change in opening:
        try:
            carry_out(work, change)
            done.append(f"{change.guest}: opened {change.forward}")
        except DachaError as e:
            failure = e
    if failure:
        raise failure
    return done
