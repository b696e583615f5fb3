"""What people can reach: the rows of the reach table that concern a person, and what they cannot reach at all."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from dacha.core.findings import WARNING, Finding
from dacha.core.lab.kinds import ORIGIN_WORDS, ORIGINS
from dacha.core.lab.model import Lab
from dacha.core.lab.person import Person
from dacha.core.reach.reach import Row


def rows_of(lab: Lab, person: Person, rows: Iterable[Row]) -> list[Row]:
    """The rows that a person may enter, with the doors concerned."""
    found = []
    for row in rows:
        guest = lab.guests[row.guest]
        doors = tuple(d for d in row.doors if person.may_enter(guest, d))
        if doors or (person.may_enter(guest) and not row.doors):
            found.append(row._replace(doors=doors))
    return found


def places_of(person: Person) -> list[str]:
    """The places that a person connects from, nearest first: each includes those before it."""
    return list(ORIGINS[: ORIGINS.index(person.origin) + 1])


def never_let_in(lab: Lab, rows: Iterable[Row]) -> Iterator[Finding]:
    """What a person may enter but cannot reach from their place."""
    rows = list(rows)
    for person in lab.people.values():
        for row in rows_of(lab, person, rows):
            cell = row.cells[person.origin]
            if cell.ways:
                continue
            what = f"cannot enter {row.guest} {row.service} from {ORIGIN_WORDS[person.origin]}: {cell.why}"
            remedy = cell.remedy or f"dacha reach {row.guest} --from {person.origin} --why"
            path = ("person", person.name)
            yield Finding(WARNING, "person-shut", f"person {person.name}", what, remedy, path, "host")
