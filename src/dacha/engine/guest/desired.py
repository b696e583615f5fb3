"""The desired machine of each guest on this host: names in the lab file resolved to files, keys and an accelerator."""

from __future__ import annotations

from dacha.core.apply.first_boot import NO_SEEDS, seeds_of
from dacha.core.apply.machine import Machine, MachineBoot, machine
from dacha.core.lab.model import Guest
from dacha.core.plan.plan import Plan
from dacha.engine.guest.first_boot import first_boot_facts
from dacha.engine.guest.machine_type import wanted_type
from dacha.engine.guest.setup_facts import changes_live
from dacha.engine.media.media import medium_path
from dacha.engine.network.boot_files import user_boot
from dacha.engine.workspace import Workspace
from dacha.hypervisor import accelerator


def desired_machines(ws: Workspace, plan: Plan) -> dict[str, Machine]:
    """Every guest's desired machine on this host. Raises HostError if the configured accelerator is not available."""
    chosen = accelerator.choose(ws.lab.accelerator).name
    wanted = {}
    for guest in ws.lab.guests.values():
        files = {}
        if guest.boot:
            files = {f: str(ws.resolve(f)) for f in (guest.boot.kernel, guest.boot.initrd) if f}
        files |= {share.folder: str(ws.resolve(share.folder).resolve()) for share in guest.shares}
        drives = drives_of(ws, guest)
        facts = first_boot_facts(ws, plan, guest) if guest.first_boot else None
        installer = _installer(ws, guest) if guest.install else None
        wanted[guest.name] = machine(
            ws.lab,
            plan,
            guest,
            accelerator=chosen,
            files=files,
            seeds=seeds_of(facts, live=changes_live(guest)) if facts else NO_SEEDS,
            drives=drives,
            installer=installer,
            machine_type=wanted_type(guest, ws.home.read(guest.name)),
        )
        for adapter in wanted[guest.name]["adapters"]:
            network = ws.lab.networks[adapter["network"]]
            if network.boot and (boot := user_boot(ws, guest, network)):
                adapter["boot"] = boot
    return wanted


def _installer(ws: Workspace, guest: Guest) -> MachineBoot | None:
    """The kernel for a guest's installation; looked up only for those that are installed from a medium."""
    from dacha.engine.guest import answers

    return answers.direct_boot(ws, guest)


def drives_of(ws: Workspace, guest: Guest) -> list[str | None]:
    """The media in the guest's drives: its own, and until it is installed, the installation medium. A guest that starts
    from a disk always has one drive, so that a medium can be inserted while it runs."""
    wanted: list[str | None] = [str(medium_path(ws, m)) for m in guest.media]
    if guest.install and not guest.by_network:
        first = None if ws.home.read(guest.name).installed == guest.install else str(medium_path(ws, guest.install))
        wanted = [first, *wanted]
    if guest.install:
        from dacha.engine.guest import answers

        wanted += answers.drive(ws, guest)
    return wanted or ([] if guest.boot else [None])
