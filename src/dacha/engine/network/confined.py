"""Check whether the guests of a lab are confined now: two short queries to the kernel, used by several commands."""

from __future__ import annotations

import os
from collections.abc import Collection

from dacha.core.network.confinement import Confinement
from dacha.core.network.links import TapLink
from dacha.core.network.rules import TABLE_FAMILIES, table_name
from dacha.engine.network import live, rules
from dacha.engine.network.links import wanted_links
from dacha.engine.workspace import Workspace
from dacha.host.network import iproute, nft


def look(ws: Workspace, on: Collection[str] | None = None, *, changed: bool = False) -> Confinement | None:
    """The observations; None if no running guest (`on`: those known to run) is on a managed network, or without the
    privilege. `changed`: the caller knows that the rules differ from those that were loaded. Raises HostError."""
    if os.geteuid() != 0 or not any(n.managed for n in ws.lab.networks.values()):
        return None
    on = [g for g in ws.lab.guests if ws.home.is_running(g)] if on is None else on
    plan = live.started(ws, ws.plan_without_host)
    links = wanted_links(ws, plan)
    taps = [t for t in links.links.values() if isinstance(t, TapLink) and t.confined and t.guest in on]
    if not taps:
        return None
    there = nft.tables()
    name = table_name(ws.lab.name)
    networks = {b.name: b.network for b in links.bridges()}
    existing = iproute.links()
    concerned = {t.bridge for t in taps} | {t.name for t in taps}
    return Confinement(
        networks=tuple(dict.fromkeys(networks[t.bridge] for t in taps)),
        guests=tuple(dict.fromkeys(t.guest for t in taps)),
        missing=tuple(f"{family} {name}" for family in TABLE_FAMILIES if (family, name) not in there),
        unfiltered=tuple(n for n in rules.unfiltered(links, existing) if n in concerned),
        changed=changed,
    )
