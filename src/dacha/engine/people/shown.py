"""What one of the lab's people can reach from their place."""

from __future__ import annotations

from collections.abc import Collection

from dacha.core.lab.person import Person
from dacha.core.named import NamedTuple
from dacha.core.people.ways import rows_of
from dacha.core.reach.reach import reach
from dacha.engine.network.live import live_plan
from dacha.engine.router.host_view import host_view
from dacha.engine.workspace import Workspace


class PersonWay(NamedTuple):
    """A service that a person may enter: its address and user, or (`address` None) why it is unreachable."""

    guest: str
    service: str
    address: str | None
    port: int | None
    user: str | None
    why: str | None


def ways_of(ws: Workspace, person: Person) -> list[PersonWay]:
    """Every service that a person may enter, in the lab file's order."""
    found = []
    for row in rows_of(ws.lab, person, reach(ws.lab, live_plan(ws), host_view(ws))):
        cell = row.cells[person.origin]
        user = person.account(ws.lab.guests[row.guest]) if row.service in ("ssh", "rdp") else None
        best = next(iter(cell.ways), None)
        found.append(
            PersonWay(row.guest, row.service, best.address, best.port, user, None)
            if best
            else PersonWay(row.guest, row.service, None, None, user, cell.why)
        )
    return found


# When a key opens a guest: now; once the guest, which contains it, is on; from its next start; after apply.
NOW, ONCE_ON, NEXT_START, BY_APPLY = "now", "once-on", "next-start", "apply"


def opens(ws: Workspace, guest: str, keys: Collection[str]) -> str:
    """When all of these key lines open a guest that they belong to: one of the four."""
    record, on = ws.home.read(guest), ws.home.is_running(guest)
    inside = {line for lines in (record.keyed or {}).values() for line in lines}
    if set(keys) <= inside:
        return NOW if on else ONCE_ON
    # A guest that is off gets its keys when it starts; whether apply starts it depends on how it was stopped.
    return BY_APPLY if on or not record.stopped_on_purpose else NEXT_START


def opens_words(guest: str, state: str) -> str:
    """The same in words, with the command for it."""
    return {
        NOW: "now",
        ONCE_ON: f"once it is on: dacha start {guest}",
        NEXT_START: f"with its next start: dacha start {guest}",
        BY_APPLY: "after dacha apply",
    }[state]
