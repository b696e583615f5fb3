"""The accounts that a lab creates in its guests, and the keys that open them."""

from __future__ import annotations

from typing import TYPE_CHECKING

from dacha.core.lab.model import Guest, Lab

if TYPE_CHECKING:
    from dacha.core.lab.text.edits import Edit


def accounts(lab: Lab, guest: Guest) -> dict[str, list[str]]:
    """Every account that the lab creates in a guest, with its keys as in the lab file: the login user, the users of its
    setup, and people, each with their own account or the login user's."""
    found: dict[str, list[str]] = {guest.login.user: list(guest.login.keys)} if guest.login else {}
    for user in guest.setup.users:
        found.setdefault(user.name, []).extend(user.keys)
    for person in lab.people.values():
        account = person.account(guest)
        if account and person.may_enter(guest):
            found.setdefault(account, []).extend(person.keys if person.enters_by_ssh(guest) else ())
    return found


def own_accounts(lab: Lab, guest: Guest) -> frozenset[str]:
    """The accounts that exist for people only: neither the login user nor a user of the setup."""
    others = {u.name for u in guest.setup.users} | ({guest.login.user} if guest.login else set())
    mine = {p.account(guest) for p in lab.people.values() if p.may_enter(guest)}
    return frozenset(a for a in mine if a and a not in others)


def edits_without(lab: Lab, guest: str, door: str | None = None, *, now: str | None = None) -> list[Edit]:
    """The edits that remove people's access to a guest (or one door of it) because it was removed; or that rename it to
    `now`."""
    from dacha.core.lab.text.edits import Set

    edits: list[Edit] = []
    for person in lab.people.values():
        gone = [e for e in person.enters if e.guest == guest and (door is None or e.door == door)]
        left = [str(e._replace(guest=now) if now and e in gone else e) for e in person.enters if now or e not in gone]
        if gone:
            edits.append(Set(("person", person.name, "enters"), left))
    return edits
