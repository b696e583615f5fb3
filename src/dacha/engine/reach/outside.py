"""Doors from outside, as the router has them now."""

from __future__ import annotations

import threading
import time
from collections.abc import Iterable

from dacha.core.endpoint import Endpoint
from dacha.core.plan.doors import DoorPlan
from dacha.core.router.mapping import RouterState
from dacha.core.trace.router import keeps_out
from dacha.core.trace.seen.results import RouterSeen
from dacha.engine.router import mappings
from dacha.engine.router.look import look
from dacha.engine.workspace import Workspace

ON_LAN = "open on the LAN"


class RouterLook:
    """Queries the router about doors in the background; `told` are its answers so far."""

    def __init__(self, ws: Workspace, doors: Iterable[DoorPlan]) -> None:
        self._ws, self._doors = ws, list(doors)
        self._told: dict[tuple[str, str], RouterSeen] = {}
        self._thread = threading.Thread(target=self._ask, daemon=True)
        self._thread.start()

    def _ask(self) -> None:
        for door in self._doors:
            self._told[door.door.guest, door.door.name] = look(self._ws, door, hairpin=False)

    def told(self, until: float) -> dict[tuple[str, str], RouterSeen]:
        """The answers by that time (seconds, monotonic), by guest and door."""
        self._thread.join(max(0.0, until - time.monotonic()))
        return dict(self._told)


def known(ws: Workspace) -> RouterState:
    """What the router granted at the last request."""
    return mappings.read(ws.home)


def led_in(
    door: DoorPlan, granted: RouterState, seen: RouterSeen | None, *, by_hand: bool
) -> tuple[bool | None, str, Endpoint | None]:
    """For a door that is open on the LAN: whether the router forwards it (None: unknown), a description, and its
    outside address (None: none)."""
    guest, name = door.door.guest, door.door.name
    mapping = granted.of(guest, name, time.time())
    place = Endpoint(granted.address or "router", mapping.outside_port) if mapping else None
    if by_hand:
        return True, f"{ON_LAN}; no requests are sent to the router", place
    if seen and (kept := keeps_out(seen)):
        return (
            False,
            f"{ON_LAN}; the router: {granted.why_not(guest, name) if seen.mapped == 'missing' else kept[0]}",
            place,
        )
    if mapping is None and seen and seen.router and seen.mapped is None and seen.router != granted.router:
        return None, f"{ON_LAN}; whether {seen.router} forwards it is not known: not requested yet", place
    if mapping is None:
        return False, f"{ON_LAN}; the router: {granted.why_not(guest, name) or 'not requested yet: dacha apply'}", place
    if seen and seen.above:
        return False, f"{ON_LAN}; the router is behind another NAT: {seen.above}", place
    if seen is None or seen.trouble:
        return None, f"{ON_LAN}; whether the router forwards it cannot be determined now", place
    return True, "open", place
