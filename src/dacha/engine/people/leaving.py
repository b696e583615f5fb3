"""Other access of a person who leaves, besides their keys: what they may have learned while they had access."""

from __future__ import annotations

from dacha.core.lab.person import Person
from dacha.core.named import NamedTuple
from dacha.engine.guest import passwords
from dacha.engine.workspace import Workspace


class WayLeft(NamedTuple):
    """Remaining access: the guest, what it is, and the command that renews or ends it."""

    guest: str
    what: str
    remedy: str


def ways_left(ws: Workspace, person: Person) -> list[WayLeft]:
    """The access that a person who leaves may still have, in the guests that they could enter."""
    found = []
    for guest in ws.lab.guests.values():
        if not person.may_enter(guest):
            continue
        name = guest.name
        found += [
            WayLeft(name, f"the password for {user}", f"dacha guest password {name} {user} --make")
            for user in passwords.hashes(ws.home, name)
        ]
        on = ws.home.is_running(name)
        machine = ws.home.read(name).machine
        if on and machine and machine["screen"]:
            found.append(
                WayLeft(name, "the screen's password", f"dacha screen {name} --listen {machine['screen']['from']}")
            )
        if on and guest.login and not person.user and person.enters_by_ssh(guest):
            what = f"a key that they added themselves to {guest.login.user}'s authorized_keys"
            found.append(WayLeft(name, what, f"dacha guest check {name}"))
        shared = [d.name for d in guest.doors if d.service in ("http", "https", "vnc")]
        if shared:
            found.append(WayLeft(name, f"door {', '.join(shared)}, which requires no key", f"dacha door list {name}"))
    return found
