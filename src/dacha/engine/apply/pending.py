"""What `apply` would still do: the lab against what is seen, without doing anything."""

from __future__ import annotations

from collections.abc import Collection

from dacha.core.apply.changes import (
    AskRouter,
    Caretaker,
    Change,
    ChangeMachine,
    Forwarding,
    RemoveLink,
    RemoveRules,
    WriteDown,
)
from dacha.core.apply.difference import difference
from dacha.core.apply.observed import ObservedGuest
from dacha.core.plan.plan import Plan
from dacha.engine.guest.desired import machines
from dacha.engine.guest.observe import observe
from dacha.engine.workspace import Workspace


def pending(ws: Workspace, observed: dict[str, ObservedGuest] | None = None, plan: Plan | None = None) -> list[Change]:
    """What `apply` would do now; `plan` where another than the workspace's own will do."""
    seen = observed if observed is not None else observe(ws.home, ws.lab.guests)
    plan = plan or ws.plan
    return with_host(ws, difference(ws.lab, plan, machines(ws, plan), seen), seen, plan=plan)


def with_host(
    ws: Workspace,
    changes: list[Change],
    seen: dict[str, ObservedGuest],
    only: Collection[str] | None = None,
    plan: Plan | None = None,
) -> list[Change]:
    """The guests' changes together with this host's: its links and rules, its router, the caretaker. With `only`, `ws`
    is the lab for which nothing but these guests differs (`scoped`), and nothing of another one is touched."""
    by_kernel = any(n.by_kernel for n in ws.lab.networks.values())
    more: list[Change] = []
    cares = by_kernel and _has_links(ws)
    if by_kernel or (ws.home.folder / "kernel.json").exists():
        from dacha.engine.network import kernel

        more += kernel.difference(ws, plan or ws.plan, {n for n, s in seen.items() if s.running})
    if ws.lab.from_outside or (ws.home.folder / "router.json").exists():
        from dacha.engine.router import mappings

        more += mappings.difference(ws)
        cares = cares or mappings.needed(ws)
    if more or cares or (ws.home.folder / "caretaker.json").exists():
        from dacha.engine.caretaker import process as caretaking

        if cares != (caretaking.running(ws.home) is not None):
            more.append(Caretaker(cares))
        if only is not None:
            more = [c for c in more if not isinstance(c, RemoveRules | RemoveLink) and c not in _ENDINGS]
            more = [c for c in more if c.guest is None or c.guest in only]
        return _merge(changes, more)
    return changes


# What ends something for the whole lab, or for the host.
_ENDINGS = (Forwarding(False), Caretaker(False))


def _has_links(ws: Workspace) -> bool:
    """True when the lab has a link in the kernel: a network of its own there, or a guest on a LAN."""
    networks = ws.lab.networks
    on_lan = (networks[a.network].by_kernel for g in ws.lab.guests.values() for a in g.adapters)
    return any(n.managed or n.made_from for n in networks.values()) or any(on_lan)


def _merge(changes: list[Change], host: list[Change]) -> list[Change]:
    """The lab's changes with this host's where they belong: made before any guest is touched, removed after."""
    # A link is attached again where it is made: before anything that needs the guest.
    late = RemoveLink | RemoveRules | ChangeMachine | AskRouter
    first = [c for c in host if not isinstance(c, late) and c not in _ENDINGS]
    written = [c for c in changes if isinstance(c, WriteDown)]
    rest = [c for c in changes if not isinstance(c, WriteDown)]
    return [*written, *first, *rest, *(c for c in host if c not in first)]
