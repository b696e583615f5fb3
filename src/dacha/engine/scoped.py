"""A lab as it was last applied, beside its file: for commands about only some guests of it."""

from __future__ import annotations

from collections.abc import Collection

from dacha.core.errors import DachaError
from dacha.core.lab.table.read import read_lab
from dacha.engine.profiles import profiles
from dacha.engine.workspace import Workspace, read_text


def scoped(ws: Workspace, only: Collection[str]) -> Workspace:
    """The lab as it was last applied, with some guests as the file has them now: for commands about only these guests,
    so that others do not change."""
    try:
        reading = read_lab(read_text(ws.home.applied), profiles())
    except DachaError:
        return ws
    before = reading.lab
    if before is None or reading.findings:
        return ws
    guests = before.guests | {name: guest for name, guest in ws.written.guests.items() if name in only}
    needed = {a.network for name in only if name in ws.lab.guests for a in ws.lab.guests[name].adapters}
    networks = {n: ws.lab.networks[n] for n in ws.lab.networks if n in needed} | before.networks
    return Workspace(ws.path, ws.text, ws.written._replace(guests=guests, networks=networks), [])


def unapplied_networks(ws: Workspace, guests: Collection[str]) -> list[str]:
    """Return the networks of these guests whose kind, backend or subnet changed since the last apply, if the kernel
    carries them now or did then."""
    try:
        before = read_lab(read_text(ws.home.applied), profiles()).lab
    except DachaError:
        return []
    used = dict.fromkeys(a.network for n in guests if n in ws.lab.guests for a in ws.lab.guests[n].adapters)
    pairs = [(n, before.networks.get(n), ws.lab.networks.get(n)) for n in used] if before else []
    return [
        n
        for n, old, new in pairs
        if old
        and new
        and (old.by_kernel or new.by_kernel)
        and (old.kind, old.by_kernel, old.subnet) != (new.kind, new.by_kernel, new.subnet)
    ]
