"""What a door waits for before it matches the lab file: an apply, or its guest's next start; and which guests an apply
would disconnect."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping

from dacha.core.apply.changes import (
    Change,
    ChangeMachine,
    CloseForward,
    Forwarding,
    LoadRules,
    MakeLink,
    OpenForward,
    ReattachTap,
    RemoveLink,
)
from dacha.core.apply.observed import ObservedGuest
from dacha.core.named import NamedTuple
from dacha.core.network.links import BridgeLink
from dacha.core.plan.doors import DoorPlan

APPLY, START = "apply", "start"


class Waiting(NamedTuple):
    """What a door waits for: `until` is APPLY or START, `what` describes the change; `short` if that is a brief
    description of the present problem."""

    until: str
    what: str
    short: bool = False

    def remedy(self, guest: str) -> str:
        """The command that ends the wait."""
        return "dacha apply" if self.until == APPLY else f"dacha restart {guest}"


UNAPPLIED = Waiting(APPLY, "the lab was never applied")


class ByGuest:
    """Changes indexed by guest: in a lab of thousands of doors, almost every change belongs to another guest."""

    def __init__(self, changes: Iterable[Change]) -> None:
        self._of: dict[str | None, list[tuple[int, Change]]] = {}
        for n, change in enumerate(changes):
            if isinstance(change, OpenForward | LoadRules | Forwarding | ReattachTap | MakeLink | ChangeMachine):
                thing = change.link if isinstance(change, MakeLink) else change
                self._of.setdefault(getattr(thing, "guest", None), []).append((n, change))

    def of(self, guest: str) -> list[Change]:
        """The changes of this guest and those of the whole lab, in their order."""
        found = sorted([*self._of.get(guest, ()), *self._of.get(None, ())], key=lambda row: row[0])
        return [change for _, change in found]


def waiting(wish: DoorPlan, now: DoorPlan, changes: Iterable[Change]) -> Waiting | None:
    """Why a door is not as the lab file says: `wish` is the door in the file, `now` the one in force. None if it waits
    for nothing."""
    guest, name = wish.door.guest, wish.door.name
    network = now.adapter.network if now.adapter else None
    changes = list(changes)
    for change in changes:
        match change:
            case OpenForward() if (change.guest, change.door) == (guest, name):
                return Waiting(APPLY, str(change))
            case LoadRules() if now.backend == "kernel" and (guest, name) in change.opened:
                return Waiting(APPLY, "it is not open yet")
            case LoadRules(there=False) if now.backend == "kernel" and now.means == "forward":
                return Waiting(APPLY, "the lab's rules are gone", True)
            case Forwarding(on=True) if now.backend == "kernel" and now.means == "forward" and now.door.from_lan:
                return Waiting(APPLY, "IP forwarding is off on this host", True)
            case ReattachTap() if change.guest == guest:
                return Waiting(APPLY, str(change))
            case MakeLink() if _carries(change, guest, network):
                return Waiting(APPLY, str(change))
    if now.means == "none" and wish.means != "none":
        what = next((c.what for c in changes if isinstance(c, ChangeMachine) and c.guest == guest), "")
        return Waiting(START, what or "its adapter is added at its next start")
    return None


def _carries(change: MakeLink, guest: str, network: str | None) -> bool:
    """True if the link belongs to the guest or to its network."""
    link = change.link
    return getattr(link, "guest", None) == guest or (network is not None and getattr(link, "network", None) == network)


def moves(wish: DoorPlan, now: DoorPlan) -> str | None:
    """The address of a door's guest from its next start on, and the present one; None if it does not change."""
    if wish.adapter is None or now.adapter is None or wish.adapter == now.adapter:
        return None
    before, after = now.adapter, wish.adapter
    if before.network != after.network:
        return f"{after.address or 'an address'} on {after.network}; until then {before.address} on {before.network}"
    if before.address != after.address and after.address is not None:
        return f"{after.address}; until then {before.address or 'the assigned one'}"
    return None


def still_open(changes: Iterable[Change]) -> list[tuple[str, str]]:
    """Doors that were removed from the lab file but are open until the next apply: guest, and description."""
    found: list[tuple[str, str]] = []
    for change in changes:
        match change:
            case CloseForward():
                found.append((change.guest, str(change.forward)))
            case LoadRules(closed=closed):
                found += closed
    return found


def cut_off(
    changes: Iterable[Change], observed: Mapping[str, ObservedGuest], guests: Collection[str]
) -> dict[str, list[str]]:
    """The running guests that would lose their network until a restart, each with the networks concerned: their links
    are removed, or their bridges get other subnets."""
    changes = list(changes)
    gone = {c.name for c in changes if isinstance(c, RemoveLink)}
    bridges = [c.link for c in changes if isinstance(c, MakeLink) and c.there and isinstance(c.link, BridgeLink)]
    moved = {link.network: link for link in bridges}
    found: dict[str, list[str]] = {}
    for name in guests:
        seen = observed[name]
        for adapter in seen.machine["adapters"] if seen.running and seen.machine else ():
            tap, network = adapter["tap"], adapter["network"]
            if tap and (tap in gone or (network in moved and not _keeps(moved[network], adapter["gateway"]))):
                found.setdefault(name, []).append(network)
    return found


def _keeps(link: BridgeLink, gateway: str | None) -> bool:
    """True if a bridge keeps the address that a guest uses as its gateway."""
    return gateway is None or any(address.partition("/")[0] == gateway for address in link.addresses)


def cut_off_words(found: Mapping[str, list[str]]) -> str:
    """A sentence that warns about it."""
    parts = [f"{guest} from {' and '.join(networks)}" for guest, networks in found.items()]
    whose = "its" if len(found) == 1 else "their"
    return f"this disconnects {', '.join(parts)} at once, until {whose} restart"
