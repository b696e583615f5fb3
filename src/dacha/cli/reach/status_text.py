"""What dacha status prints for a person."""

from __future__ import annotations

import time
from typing import TYPE_CHECKING, Any

from dacha.cli.terminal import output

if TYPE_CHECKING:
    from dacha.engine.workspace import Workspace


def print_status(ws: Workspace, status: Any, only: set[str] | None) -> None:
    """Print the state of the lab, or of `only` some of its guests."""
    from dacha.cli.words import closed_here
    from dacha.core.network.confinement import REMEDY

    silent = [d for g in status.guests for d in g.doors if d.silent]
    output.say(_heading(ws, status, only))
    if status.refused:
        first = status.refused[0]
        more = f", and {output.plural(len(status.refused) - 1, 'more error')}" if len(status.refused) > 1 else ""
        output.say(
            output.paint(f"dacha apply would refuse: {first.subject}: {first.what}{more}: dacha check", output.BAD)
        )
    if not status.guests:
        output.say("Next: dacha guest add NAME --from IMAGE")
        return
    output.say()
    if status.confinement is not None and not status.confinement.sound:
        found = status.confinement
        output.say(output.paint(f"warning: {found.what()}", output.BAD))
        output.say(f"  {found.means()}")
        output.say(f"  {REMEDY}")
        output.say()
    _table(status)
    if silent:
        output.say()
        for d in silent:
            name = f"{d.plan.door.guest} {d.plan.door.name}"
            if d.inside_only:
                beyond = "outside" if d.reached_from == "outside" else "the LAN"
                output.say(f"door {name} is not reachable from {beyond}: dacha trace {name}")
            else:
                output.say(f"door {name} is not reachable: {d.now}")
    notes = [f"Doors {closed}"] if (closed := closed_here(ws)) else []
    for guest, what in status.still_open:
        notes.append(f"{guest}: {what} is still open, but no longer in the lab file: dacha apply")
    if status.unserved:
        notes.append(f"The caretaker is not running: no DHCP and DNS on {', '.join(status.unserved)}: dacha apply")
    notes += _ended(status)
    notes += [output.paint(f"warning: {words}", output.BAD) for words in status.low]
    if notes:
        output.say()
        for note in notes:
            output.say(note)
    if status.exposed:
        output.say()
        from dacha.host import ask_first

        remedy = "isolated = true prevents it" if ask_first.missing() else "their next start prevents it: dacha restart"
        networks = ", ".join(status.exposed)
        output.say(f"Guests on {networks} can reach this host's loopback through their gateway: {remedy}")


def _heading(ws: Workspace, status: Any, only: set[str] | None) -> str:
    """How many guests there are, how many of those shown are on, and what is not applied."""
    from dacha.core.apply.changes import LIVE, when_of

    on = sum(g.seen.running for g in status.guests)
    unfit = {str(f.path[1]) for f in status.refused if f.path[:1] == ("guest",)}
    able = [c for c in status.pending if c.guest not in unfit]
    live = sum(when_of(c) == LIVE for c in able)
    later = len(able) - live
    parts = [f"{output.plural(live, 'change')} to apply: dacha diff"] if live else []
    parts += [f"{output.plural(later, 'change')} at the next start of a guest: dacha diff"] if later else []
    applied = ", ".join(parts) or ("everything else applied" if unfit else "everything applied")
    every = output.plural(len(ws.lab.guests), "guest")
    shown = every if only is None else f"{len(status.guests)} of {every}"
    return f"{ws.lab.name}: {shown}, {on} on; {applied}"


def _ended(status: Any) -> list[str]:
    """Guests that are off although nobody stopped them, with the reason."""
    from dacha.core.units import show_duration

    found = []
    for g in status.guests:
        if g.ended and not g.seen.stopped_on_purpose:
            end, at = g.ended
            found.append(
                f"{g.name} ended {show_duration(max(0.0, time.time() - at))} ago: {end.words}: dacha log {g.name}"
            )
    return found


def _table(status: Any) -> None:
    """Every guest with its addresses and its doors."""
    rows = []
    for g in status.guests:
        addresses, doors = g.addresses or ["-"], g.doors
        for n in range(max(1, len(doors), len(addresses))):
            door = doors[n] if n < len(doors) else None
            rows.append(
                (
                    g.name if n == 0 else "",
                    g.state if n == 0 else "",
                    addresses[n] if n < len(addresses) else "",
                    door.plan.door.name if door else "",
                    door.enter_at if door else "",
                    door.now if door else "",
                )
            )
    doors = [d for g in status.guests for d in g.doors if d.ok or d.silent]
    colours = {d.now: output.GOOD if d.ok else output.BAD for d in doors}
    output.table(
        ("GUEST", "STATE", "ADDRESS", "DOOR", "ENTER AT", "NOW"),
        rows,
        lambda n, cell: colours.get(cell) if n == 5 else None,
    )
