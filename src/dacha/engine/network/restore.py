"""Restore the lab's rules, filters, links and forwarding after another program changed them."""

from __future__ import annotations

from dacha.core.apply.changes import Change, Forwarding, LoadRules, MakeLink
from dacha.core.errors import BusyError
from dacha.core.network.links import BridgeLink, TapLink
from dacha.engine.network import kernel, rules
from dacha.engine.workspace import Workspace
from dacha.host.files import locked


def restore(ws: Workspace) -> list[Change]:
    """Restore differences; returns what was done. `ws` is the lab as it was applied. Rules come first and do not wait
    for a running apply. An apply creates links itself, so they are left to it while it runs. Raises HostError,
    BusyError."""
    done: list[Change] = []
    if rules.reload_changed(ws):
        done.append(LoadRules(sum(d.backend == "kernel" for d in ws.plan.doors.values()), True))
    try:
        with locked(ws.home.command_lock, "dacha caretaker run", 0.0):
            # What another lab file applied meanwhile must not be reverted.
            if not ws.is_applied():
                return done
            for change in kernel.difference(ws, ws.plan):
                if _ours(change):
                    kernel.carry_out(ws, ws.plan, change)
                    done.append(change)
    except BusyError:
        pass
    return done


def _ours(change: Change) -> bool:
    """True for what can be restored without affecting a guest, or the addresses of this host's own adapters."""
    match change:
        case MakeLink(link=BridgeLink() | TapLink()) | LoadRules() | Forwarding(on=True):
            return True
    return False
