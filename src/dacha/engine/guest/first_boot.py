"""A guest's first-boot data, from the lab and its files, and its trusted key."""

from __future__ import annotations

from dacha.core.apply.first_boot import FirstBoot, first_boot
from dacha.core.lab.model import Guest
from dacha.core.plan.plan import Plan
from dacha.engine.guest.keys import accounts_of
from dacha.engine.guest.setup_facts import setup_facts
from dacha.engine.home import Home
from dacha.engine.workspace import Workspace


def first_boot_facts(ws: Workspace, plan: Plan, guest: Guest) -> FirstBoot:
    """The first-boot data; a missing host key counts as empty. Unreadable keys are omitted: `engine.check.guest`
    reports them, and prevents the start."""
    told = accounts_of(ws, guest)
    return first_boot(
        ws.lab,
        plan,
        guest,
        keys=told.get(guest.login.user, []) if guest.login else [],
        host_key=host_key_public(ws.home, guest.name),
        again=ws.home.read(guest.name).again,
        setup=setup_facts(ws, guest, told),
    )


def trusted_key(home: Home, name: str) -> str:
    """The public host key that clients trust: the one that Dacha created, or another that was accepted."""
    return home.read(name).accepted_key or host_key_public(home, name)


def host_key_public(home: Home, name: str) -> str:
    """The public host key that Dacha created for the guest; empty if there is none yet."""
    try:
        return (home.guest(name) / "host_key.pub").read_text().strip()
    except OSError:
        return ""
