"""The traffic through each door, from the counters of the lab's rules."""

from __future__ import annotations

import time

from dacha.core.network.door_counts import DoorBytes, door_of
from dacha.core.usage.usage import door_rates
from dacha.engine.workspace import Workspace


def door_bytes(ws: Workspace) -> dict[tuple[str, str], DoorBytes]:
    """The bytes of each door, by guest and door, that the lab's rules count: with `usage` in the lab file, on networks
    of the kernel. Raises HostError without nft."""
    from dacha.core.network.rules import table_name
    from dacha.engine.network.kernel import uses_kernel

    if ws.lab.usage is None or not uses_kernel(ws):
        return {}
    from dacha.host.network.nft import counters

    found: dict[tuple[str, str], dict[str, int]] = {}
    for name, count in counters(table_name(ws.lab.name)).items():
        if door := door_of(name):
            found.setdefault(door[1:], {})[door[0]] = count
    return {key: DoorBytes(told.get("in", 0), told.get("out", 0)) for key, told in found.items()}


class DoorTraffic:
    """The traffic through the doors of a lab, from one look to the next."""

    def __init__(self, ws: Workspace) -> None:
        self._ws = ws
        self._before = self._look()

    def _look(self) -> tuple[float, dict[tuple[str, str], DoorBytes]]:
        return time.monotonic(), door_bytes(self._ws)

    def rates(self) -> dict[tuple[str, str], tuple[float, float]]:
        """Bytes a second that came in and went out since the last look, by guest and door."""
        (then, before), (now, after) = self._before, self._look()
        self._before = now, after
        return door_rates(before, after, now - then)
