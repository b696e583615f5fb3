"""Errors in what people may enter, as far as they follow from the lab file alone."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from dacha.core.findings import ERROR, NOTE, WARNING, Finding
from dacha.core.lab.model import Lab
from dacha.core.lab.person import Entry, Person
from dacha.core.spelling import did_you_mean


def check_people(lab: Lab) -> Iterator[Finding]:
    """Errors in what people may enter, from the file alone."""
    owners: dict[str, str] = {}
    for person in lab.people.values():
        for n, wanted in enumerate(person.enters):
            yield from _unknown(lab, person, n, wanted)
        subject, path = f"person {person.name}", ("person", person.name)
        if not person.enters and not person.everything:
            remedy = f"dacha person edit {person.name} --enter GUEST"
            yield Finding(NOTE, "person-nothing", subject, "may enter nothing", remedy, path)
        by_ssh = [g for g in lab.guests.values() if person.enters_by_ssh(g)]
        if by_ssh and not person.keys:
            what = f"may enter {_listed(g.name for g in by_ssh)} by SSH, and has no key"
            remedy = (
                f"dacha person edit {person.name} --key FILE.pub, or create one: dacha handout --for {person.name} "
            )
            yield Finding(WARNING, "person-keys", subject, what, remedy + "--with-key", path)
        nobody = [g.name for g in by_ssh if person.account(g) is None]
        if nobody:
            what = f"has no account in {_listed(nobody)}, where no login user is set"
            remedy = f"dacha person edit {person.name} --user {person.name}, or set login.user there"
            yield Finding(WARNING, "person-account", subject, what, remedy, path)
        for key in person.keys:
            other = owners.setdefault(key, person.name)
            if other != person.name:
                what = f"has the same key as {other}: if one of them is removed, the other's key still opens the guests"
                yield Finding(WARNING, "person-key-twice", subject, what, "use a key for each person", (*path, "keys"))


def _unknown(lab: Lab, person: Person, n: int, wanted: Entry) -> Iterator[Finding]:
    """An entry whose guest or door does not exist."""
    subject, path = f"person {person.name}", ("person", person.name, "enters", n)
    guest = lab.guests.get(wanted.guest)
    if guest is None:
        remedy = did_you_mean(wanted.guest, lab.guests, f"dacha person edit {person.name} --not-enter {wanted.guest}")
        yield Finding(ERROR, "person-guest", subject, f"enters: there is no guest {wanted.guest}", remedy, path)
    elif wanted.door and wanted.door not in [d.name for d in guest.doors]:
        doors = [d.name for d in guest.doors]
        remedy = did_you_mean(wanted.door, doors, f"dacha door add {wanted.guest} {wanted.door} --from {person.origin}")
        what = f"enters: {wanted.guest} has no door {wanted.door}"
        yield Finding(ERROR, "person-door", subject, what, remedy, path)


def _listed(names: Iterable[str]) -> str:
    """A few names, and the number of the others."""
    all_of = list(names)
    return ", ".join(all_of[:3]) + (f" and {len(all_of) - 3} more" if all_of[3:] else "")
