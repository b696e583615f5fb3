"""What each guest's machine should be on this host: the lab's words resolved to files, keys and an accelerator."""

from __future__ import annotations

from dacha.core.apply.first_boot import FirstBoot, digest, first_boot
from dacha.core.apply.machine import Machine, machine
from dacha.core.lab.model import Guest
from dacha.core.plan.plan import Plan
from dacha.engine.disks.media import medium_path
from dacha.engine.guest.keys import key_line
from dacha.engine.guest.setup_facts import setup_facts
from dacha.engine.home import Home
from dacha.engine.workspace import Workspace
from dacha.hypervisor import accelerator


def first_boot_facts(ws: Workspace, plan: Plan, guest: Guest) -> FirstBoot:
    """What the guest is to be told; a host key not yet made counts as empty. Unreadable keys are left out:
    `engine.check.guest` names them, and nothing starts while it does."""
    lines = []
    for written in guest.login.keys if guest.login else ():
        try:
            lines.append(key_line(ws, written))
        except ValueError:
            continue
    return first_boot(
        ws.lab,
        plan,
        guest,
        keys=lines,
        host_key=host_key_public(ws.home, guest.name),
        again=ws.home.read(guest.name).again,
        setup=setup_facts(ws, guest),
    )


def trusted_key(home: Home, name: str) -> str:
    """The public host key that clients are to trust: the lab's own, or another that was accepted."""
    return home.read(name).accepted_key or host_key_public(home, name)


def host_key_public(home: Home, name: str) -> str:
    """The public host key that the lab made for the guest; empty while it has none."""
    try:
        return (home.guest(name) / "host_key.pub").read_text().strip()
    except OSError:
        return ""


def machines(ws: Workspace, plan: Plan) -> dict[str, Machine]:
    """Every guest's desired machine on this host. Raises HostError when the pinned accelerator is not here."""
    chosen = accelerator.choose(ws.lab.accelerator).name
    wanted = {}
    for guest in ws.lab.guests.values():
        files = {}
        if guest.boot:
            files = {f: str(ws.resolve(f)) for f in (guest.boot.kernel, guest.boot.initrd) if f}
        drives = drives_of(ws, guest)
        seed = digest(first_boot_facts(ws, plan, guest)) if guest.first_boot else None
        wanted[guest.name] = machine(ws.lab, plan, guest, accelerator=chosen, files=files, seed=seed, drives=drives)
    return wanted


def drives_of(ws: Workspace, guest: Guest) -> list[str | None]:
    """What is in the guest's drives: its media, and while it is not yet installed, the medium to install from.

    A guest that starts from a disk always has one drive, so that a medium can be put in while it runs.
    """
    wanted: list[str | None] = [str(medium_path(ws, m)) for m in guest.media]
    if guest.install:
        first = None if ws.home.read(guest.name).installed == guest.install else str(medium_path(ws, guest.install))
        wanted = [first, *wanted]
    return wanted or ([] if guest.boot else [None])
