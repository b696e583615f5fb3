"""The changes that `apply` would make, without making them."""

from __future__ import annotations

from collections.abc import Collection

from dacha.core.apply.changes import AskRouter, Caretaker, Change, ChangeMachine, in_order, phase_of
from dacha.core.apply.changes.change import END
from dacha.core.apply.difference import difference
from dacha.core.apply.observed import ObservedGuest
from dacha.core.plan.plan import Plan
from dacha.engine.disks.storages import misplaced
from dacha.engine.guest.desired import desired_machines
from dacha.engine.guest.keys import wanted_keys
from dacha.engine.guest.observe import observe
from dacha.engine.guest.setup_facts import wanted_setups
from dacha.engine.workspace import Workspace


def pending_changes(
    ws: Workspace, observed: dict[str, ObservedGuest] | None = None, plan: Plan | None = None
) -> list[Change]:
    """The changes that `apply` would make now; `plan` replaces the workspace's own."""
    seen = observed if observed is not None else observe(ws.home, ws.lab.guests)
    plan = plan or ws.plan
    return with_host(
        ws,
        difference(ws.lab, plan, desired_machines(ws, plan), seen, wanted_keys(ws), wanted_setups(ws)),
        seen,
        plan=plan,
    )


def with_host(
    ws: Workspace,
    changes: list[Change],
    seen: dict[str, ObservedGuest],
    only: Collection[str] | None = None,
    plan: Plan | None = None,
) -> list[Change]:
    """The guests' changes together with this host's: links and rules, router, caretaker. With `only`, `ws` is a lab
    that differs only in these guests (`scoped`), and nothing of others changes."""
    if away := misplaced(ws, only):
        from dacha.engine.disks.moving import moves

        changes = [*moves(ws, away), *changes]
    if any(s.machine.get("usb") for s in seen.values() if s.running and s.machine):
        from dacha.engine.guest import usb

        changes = [*changes, *usb.changes(ws, only)]
    by_kernel = any(n.by_kernel for n in ws.lab.networks.values())
    more: list[Change] = []
    cares = by_kernel and _has_links(ws)
    if by_kernel or ws.home.kernel_note.exists():
        from dacha.engine.network import kernel

        more += kernel.difference(ws, plan or ws.plan, _held(seen))
    if ws.lab.open_firewall or ws.home.firewall_note.exists():
        from dacha.engine.network import host_firewall

        more += host_firewall.difference(ws, plan or ws.plan)
    if ws.lab.from_outside or ws.home.router_note.exists():
        from dacha.engine.router import mappings

        more += mappings.difference(ws)
        cares = cares or mappings.needed(ws)
    cares = cares or follows_places(ws) or minds_guests(ws)
    if more or cares or ws.home.caretaker_note.exists():
        from dacha.engine.caretaker import process as caretaking

        runs = caretaking.running(ws.home) is not None
        if cares != runs:
            more.append(Caretaker(cares))
        elif runs and only is None and caretaking.older(ws.home):
            more.append(Caretaker(True, anew=True))
        if only is not None:
            # Nothing ends for the whole lab if only some guests are concerned.
            more = [c for c in more if isinstance(c, AskRouter | ChangeMachine) or phase_of(c) != END]
            more = [c for c in more if c.guest is None or c.guest in only]
    return in_order([*changes, *more])


def follows_places(ws: Workspace) -> bool:
    """True if doors of this lab are open at some places only: the caretaker closes them elsewhere."""
    return bool(ws.written.places) and any(d.from_lan for d in ws.written.doors())


def minds_guests(ws: Workspace) -> bool:
    """True if the caretaker has something to do for guests: it starts them again after an end, saves them to archives,
    measures them, announces them on the LAN, gives them USB devices, or runs commands at events; or if a service starts
    it with this host."""
    from dacha.engine.caretaker.unit_file import installed

    guests = ws.lab.guests.values()
    asked = bool(ws.lab.alerts) or ws.lab.usage is not None or ws.lab.lan_names
    return installed(ws.lab.name) or asked or any(g.restart != "never" or g.archive or g.usb for g in guests)


def _held(seen: dict[str, ObservedGuest]) -> set[str]:
    """The links that running guests were started with, by name."""
    machines = [s.machine for s in seen.values() if s.running and s.machine]
    return {a["tap"] for m in machines for a in m["adapters"] if a["tap"]}


def _has_links(ws: Workspace) -> bool:
    """True if the lab has a link in the kernel: a network of its own there, or a guest on a LAN."""
    networks = ws.lab.networks
    on_lan = (networks[a.network].by_kernel for g in ws.lab.guests.values() for a in g.adapters)
    return any(n.managed or n.made_from for n in networks.values()) or any(on_lan)
