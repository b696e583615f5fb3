"""Doors that rules of other programs on this host close: to their clients, or to this host only."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from ipaddress import IPv4Address

from dacha.core.heard import Heard
from dacha.core.named import NamedTuple
from dacha.core.network.firewall.walk import Rules
from dacha.core.plan.doors import DoorPlan, endpoint, here, lan_place
from dacha.engine.network import others
from dacha.engine.network.forwarding import all_forwarded, unforwarded
from dacha.engine.workspace import Workspace
from dacha.wire.probes import Verdict


class ClosedDoor(NamedTuple):
    """What closes a door, in words; `unsure` if it closes it to this host, and clients on the LAN may enter."""

    words: str
    unsure: bool = False


def closed_doors(
    ws: Workspace, doors: Iterable[DoorPlan], verdicts: Mapping[object, Verdict], lan: IPv4Address | None
) -> dict[tuple[str, str], ClosedDoor]:
    """The doors that answered this host but not their clients on the LAN, and those that this host cannot ask."""
    key = {(d.door.guest, d.door.name): d for d in doors}
    answered = {k: verdicts[k] for k in key if k in verdicts}
    wanted = [k for k, v in answered.items() if (v.ok and key[k].door.from_lan) or v.heard == Heard.NOTHING]
    rules = others.listing() if wanted else None
    found = {k: told for k in wanted if (told := _closed(ws, key[k], rules, lan, answers=answered[k].ok))}
    led = {k: key[k] for k in wanted if k not in found and _is_forwarded(key[k])}
    if not all_forwarded(ws.lab.name, [_place(door) for door in led.values()]):
        for k, door in led.items():
            if unforwarded(ws.lab.name, *_place(door), _asker(door)):
                found[k] = ClosedDoor("this host does not forward it")
    return found


def _is_forwarded(door: DoorPlan) -> bool:
    """True for a door of the kernel from the LAN."""
    kernel = door.backend == "kernel" and door.means == "forward"
    return door.door.from_lan and kernel and door.adapter is not None and door.adapter.address is not None


def _place(door: DoorPlan) -> tuple[str, str]:
    """A forwarded door's network, and its guest's address."""
    return (door.adapter.network, str(door.adapter.address or "")) if door.adapter else ("", "")


def _asker(door: DoorPlan) -> str | None:
    """A client that a limited door admits."""
    if not door.door.allow:
        return None
    first = door.door.allow[0]
    return str(first.network_address if first.num_addresses == 1 else first.network_address + 1)


def _closed(
    ws: Workspace, door: DoorPlan, rules: Rules | None, lan: IPv4Address | None, *, answers: bool
) -> ClosedDoor | None:
    asker = _asker(door)
    outside = lan_place(door, lan)
    if door.door.from_lan and others.dropped(ws.lab, door, rules, from_lan=True, asker=asker, lan=str(lan or "")):
        return ClosedDoor("another firewall blocks the LAN")
    if outside and door.door.from_lan and _led_away(door, rules, asker, str(outside[0])):
        return ClosedDoor("another program's rule matches first")
    place = here(door)
    if not answers and others.dropped_here(ws.lab, door, rules, endpoint(*place) if place else None):
        return ClosedDoor("another firewall blocks this host itself", unsure=door.door.from_lan)
    return None


def _led_away(door: DoorPlan, rules: Rules | None, asker: str | None, at: str) -> bool:
    """Whether another program's rule comes before the door's."""
    which = (others.taken, others.untracked)
    return any(judge(door, rules, from_lan=True, asker=asker, at=at) for judge in which)
