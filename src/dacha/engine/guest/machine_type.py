"""A guest keeps the board that it was first started with: systems bind drivers, adapter names and licences to it."""

from __future__ import annotations

import contextlib
from typing import TYPE_CHECKING

from dacha.core.errors import DachaError
from dacha.core.findings import ERROR, WARNING, Finding
from dacha.core.lab.model import Guest
from dacha.core.named import NamedTuple
from dacha.engine.home import Home
from dacha.engine.record import Record
from dacha.hypervisor.command_line import WATCH

if TYPE_CHECKING:
    from dacha.engine.workspace import Workspace

NEWEST = "newest"
# What another board may cost, for those who are offered one.
COST = (
    "it changes the guest's hardware: network adapters may get other names, and Windows may require its licence to be "
    "activated again"
)


class Offer(NamedTuple):
    """A newer machine type than the one that a guest keeps."""

    guest: str
    has: str
    newest: str


def wanted_type(guest: Guest, record: Record) -> str | None:
    """The guest's machine type at its next start: that of the lab file; else the one of its first start. None: the
    newest one."""
    if guest.machine_type == NEWEST:
        from dacha.hypervisor.machine_types import machine_types

        known = machine_types()
        return known.newest if known else None
    return guest.machine_type or record.machine_type


def resolved(wanted: str | None) -> str | None:
    """The machine type to start a guest with: the newest one if nothing is `wanted`. None if QEMU lists none."""
    if wanted:
        return wanted
    from dacha.hypervisor.machine_types import machine_types

    known = machine_types(keep=True)
    return known.newest if known else None


def note_running(home: Home, name: str) -> None:
    """Record the machine type of a running guest that an older version of Dacha started by its alias."""
    record = home.read(name)
    if record.machine is None or record.machine_type or not home.is_running(name):
        return
    from dacha.hypervisor.monitor.qmp import Qmp

    with contextlib.suppress(OSError, DachaError), Qmp(home.run(name) / WATCH, timeout_s=2.0) as qmp:
        said = qmp.execute("qom-get", {"path": "/machine", "property": "type"})
        if isinstance(said, str) and said.startswith("pc-q35-"):
            record.machine["machine_type"] = said.removesuffix("-machine")
            home.write(name, record)


def offers(ws: Workspace) -> list[Offer]:
    """Guests that keep an older machine type than QEMU offers now, unless their lab file names one."""
    had = {name: ws.home.read(name).machine_type for name, g in ws.lab.guests.items() if g.machine_type is None}
    if not any(had.values()):
        return []
    from dacha.hypervisor.machine_types import machine_types

    known = machine_types()
    return [Offer(n, has, known.newest) for n, has in had.items() if known and has and has != known.newest]


def type_findings(ws: Workspace, guest: Guest) -> list[Finding]:
    """A machine type that this host's QEMU does not have, or will drop."""
    wanted = guest.machine_type if guest.machine_type != NEWEST else None
    kept = wanted or ws.home.read(guest.name).machine_type
    if guest.machine_type == NEWEST or not kept:
        return []
    from dacha.hypervisor.machine_types import machine_types

    known = machine_types()
    if known is None or (kept in known.names and kept not in known.deprecated):
        return []
    origin = "the lab file sets it" if wanted else "the guest was first started with it"
    remedy = f"to use the newest one, {known.newest}: dacha guest edit {guest.name} --machine-type newest\n{COST}"
    subject, path = f"guest {guest.name}", ("guest", guest.name, "machine-type")
    if kept in known.names:
        what = f"a later version of QEMU will not support the machine type {kept} ({origin})"
        return [Finding(WARNING, "machine-type-old", subject, what, remedy, path, "host")]
    what = f"QEMU on this host does not support the machine type {kept} ({origin})"
    return [Finding(ERROR, "machine-type", subject, what, remedy, path, "host")]
