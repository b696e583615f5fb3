"""What `apply` would still do: the lab against what is seen, without doing anything."""

from __future__ import annotations

from dacha.core.changes import Change
from dacha.core.difference import difference
from dacha.core.observed import ObservedGuest
from dacha.engine.machines import machines
from dacha.engine.observe import observe
from dacha.engine.workspace import Workspace


def pending(ws: Workspace, observed: dict[str, ObservedGuest] | None = None) -> list[Change]:
    """What `apply` would do now."""
    seen = observed if observed is not None else observe(ws.home, ws.lab.guests)
    changes = difference(ws.lab, ws.plan, machines(ws, ws.plan), seen)
    if any(n.by_kernel for n in ws.lab.networks.values()) or (ws.home.folder / "kernel.json").exists():
        from dacha.engine import kernel

        changes = kernel.merge(changes, kernel.difference(ws, ws.plan, {n for n, s in seen.items() if s.running}))
    return changes
