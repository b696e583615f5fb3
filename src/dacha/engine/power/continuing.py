"""Let a guest continue from its saved state, in a QEMU that was started for it."""

from __future__ import annotations

import subprocess
from collections.abc import Iterable

from dacha.core.apply.in_force import in_force
from dacha.core.apply.machine import Machine
from dacha.core.errors import DachaError, HostError
from dacha.core.plan.doors import Forward
from dacha.engine.workspace import Workspace
from dacha.host.probe.ports import first_free_port
from dacha.hypervisor import launch
from dacha.hypervisor.live import user_network
from dacha.hypervisor.monitor.qmp import Qmp


def forwards_of(ws: Workspace, m: Machine, name: str, *, saved: bool) -> tuple[list[Forward], list[Forward]]:
    """The forwards that a guest's process opens by itself, and those that are opened when the guest runs: QEMU accepts
    connections before a saved guest runs again, and they would wait for a second. Ports that need a privilege are
    opened by the process."""
    guest = ws.lab.guests[name]
    plan = in_force(ws.lab, ws.plan, {name: m}) if saved else ws.plan
    found = sorted(plan.forwards_of(name, [d.name for d in guest.doors]))
    later = [f for f in found if saved and f.port >= first_free_port()]
    return [f for f in found if f not in later], later


def continue_saved(ws: Workspace, name: str, m: Machine, child: subprocess.Popen[bytes]) -> None:
    """Read the guest's memory, let it run, and open its forwards. Raises HostError; then the process is ended and the
    state kept, unless only a forward could not be opened."""
    from dacha.engine.power import saved, saving

    failed: list[HostError] = []

    def opened(qmp: Qmp) -> None:
        failed.extend(_opened(qmp, m, forwards_of(ws, m, name, saved=True)[1]))

    try:
        saving.load(ws.home, name, opened)
    except (DachaError, OSError) as e:
        launch.end(child)
        raise HostError(
            f"{name} cannot continue from its saved state", why=e.what if isinstance(e, DachaError) else str(e),
            remedy=saved.without(name),
        ) from e  # fmt: skip
    if failed:
        raise failed[0]


def _opened(qmp: Qmp, m: Machine, forwards: Iterable[Forward]) -> Iterable[HostError]:
    """Open forwards; why some could not be opened."""
    addresses = [a["address"] for a in m["adapters"]]
    for forward in forwards:
        at = str(forward.address)
        try:
            user_network.open_forward(qmp, addresses.index(at) if at in addresses else 0, forward)
        except HostError as e:
            yield e
