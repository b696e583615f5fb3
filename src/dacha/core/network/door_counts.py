"""Counters of the traffic through each door: named counters, and a look-up for each packet of a forwarded connection.

They are written only if the lab file asks for measurements, because each packet takes longer then.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from dacha.core.named import NamedTuple
from dacha.core.network.door_rules import named_set
from dacha.core.plan.doors import DoorPlan

# The chain that counts, and how a door's traffic is told apart: what came to a door's port leaves through a bridge of
# the lab, in the original direction of its connection.
CHAIN = "counted"
_DIRECTIONS = (("in", "original", "oifname"), ("out", "reply", "iifname"))


class DoorBytes(NamedTuple):
    """The bytes that came in through a door and went out through it, of all its connections."""

    received: int
    sent: int


def counter_name(direction: str, guest: str, door: str) -> str:
    """The name of a door's counter. nft does not accept hyphens in it; names in a lab have no underscores."""
    return f"{direction}.{guest}.{door}".replace("-", "_")


def door_of(name: str) -> tuple[str, str, str] | None:
    """The direction, guest and door of a counter's name; None for another counter."""
    words = name.replace("_", "-").split(".")
    return (words[0], words[1], words[2]) if len(words) == 3 and words[0] in ("in", "out") else None


def _counted(doors: Iterable[DoorPlan]) -> list[DoorPlan]:
    return [d for d in doors if d.means == "forward" and d.adapter is not None and d.port is not None]


def counts(doors: Iterable[DoorPlan]) -> Iterator[str]:
    """The counters of these doors, the maps that lead to them, and the chain that looks them up."""
    counted = _counted(doors)
    if not counted:
        return
    rules = []
    for word, direction, bridge in _DIRECTIONS:
        yield from (f"counter {counter_name(word, d.door.guest, d.door.name)} {{ }}" for d in counted)
        for protocol in ("tcp", "udp"):
            elements = list(_elements(counted, word, protocol))
            if elements:
                name = f"{word}_{protocol}"
                yield from named_set(name, "inet_service : counter", elements, what="map")
                # A connection keeps the port that it came to as its original one, whichever the guest has.
                where = f"{bridge} @bridges ct status dnat ct direction {direction} meta l4proto {protocol}"
                rules.append(f"{where} counter name ct original proto-dst map @{name}")
    yield from (f"chain {CHAIN} {{", *rules, "}")
    # Connections of this host itself are not forwarded.
    yield f"chain {CHAIN}_out {{ type filter hook output priority 0; policy accept; jump {CHAIN}; }}"
    yield f"chain {CHAIN}_in {{ type filter hook input priority -1; policy accept; jump {CHAIN}; }}"
    yield f"chain {CHAIN}_through {{ type filter hook forward priority -1; policy accept; jump {CHAIN}; }}"


def _elements(doors: Iterable[DoorPlan], word: str, protocol: str) -> Iterator[str]:
    seen = set()
    for plan in doors:
        if plan.door.protocol != protocol or plan.port is None:
            continue
        for number in range(plan.port.first, plan.port.last + 1):
            # The same port at two addresses of this host: the first door counts for both.
            if number not in seen:
                seen.add(number)
                yield f'{number} : "{counter_name(word, plan.door.guest, plan.door.name)}"'
