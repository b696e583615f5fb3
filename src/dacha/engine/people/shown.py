"""Where somebody of the lab's people gets in, from the place that they enter from."""

from __future__ import annotations

from dacha.core.lab.person import Person
from dacha.core.named import NamedTuple
from dacha.core.people.ways import rows_of
from dacha.core.reach.reach import reach
from dacha.engine.network.live import live_plan
from dacha.engine.router.host_view import host_view
from dacha.engine.workspace import Workspace


class PersonWay(NamedTuple):
    """A service that somebody may enter: where, as whom, or (`address` None) why there is no way."""

    guest: str
    service: str
    address: str | None
    port: int | None
    user: str | None
    why: str | None


def ways_of(ws: Workspace, person: Person) -> list[PersonWay]:
    """Every service that somebody may enter, in the lab file's order."""
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
