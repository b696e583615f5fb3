"""The lab as a map: networks with their guests, and every door with its origin."""

from __future__ import annotations

from ipaddress import IPv4Address

from dacha.core.endpoint import Endpoint
from dacha.core.lab.model import Lab
from dacha.core.named import NamedTuple
from dacha.core.plan.doors import DoorPlan, endpoint, here, lan_place
from dacha.core.plan.plan import Plan
from dacha.core.reach.reach import HOST, LAN, OUTSIDE, ROUTER
from dacha.core.router.mapping import UNKNOWN, RouterState

# Shown instead of an outside address: the router does not forward the door, or is not asked to.
NOT_LED_IN, BY_HAND = "not forwarded", "by hand"


class Entry(NamedTuple):
    """A door on the map: its origin, the address to type there, and its target; for one from outside, `router` is the
    address to type outside."""

    origin: str
    at: Endpoint
    to: str
    router: Endpoint | str = ""


class Place(NamedTuple):
    """A guest's adapter on a network, with the doors that use it."""

    guest: str
    address: str
    entries: tuple[Entry, ...]


class Band(NamedTuple):
    """A network: its name, description, whether it has a way out, and its guests. The last one may hold guests without
    a network (`name` empty)."""

    name: str
    words: str
    way_out: bool
    on_lan: bool
    places: tuple[Place, ...]


_KINDS = {"nat": "NAT", "host-only": "host-only", "bridge": "on the LAN"}


def outline(
    lab: Lab, plan: Plan, lan: IPv4Address | None, known: RouterState = UNKNOWN, now: float = 0.0
) -> list[Band]:
    """Every network in file order, each with its guests; `known` is what the router has granted, as of `now`."""
    bands = []
    for network in lab.networks.values():
        net = plan.networks[network.name]
        words = [_KINDS[network.kind]]
        words += [str(net.subnet)] if net.subnet else []
        words += ["isolated"] if net.isolated else []
        if network.kind == "bridge":
            words.append(f"by {network.interface}" + (f", VLAN {network.vlan}" if network.vlan is not None else ""))
        else:
            words.append("kernel" if network.by_kernel else "user mode")
        places = []
        for adapter in plan.adapters.values():
            if adapter.network == network.name:
                mine = [d for d in plan.doors.values() if d.adapter == adapter]
                entries = [e for d in mine if (e := _entry(d, lan, known, now, by_hand=lab.by_hand))]
                places.append(Place(adapter.guest, str(adapter.address or "by DHCP"), tuple(entries)))
        out = network.kind == "nat" and not net.isolated
        bands.append(Band(network.name, ", ".join(words), out, network.kind == "bridge", tuple(places)))
    alone = [Place(g.name, "", ()) for g in lab.guests.values() if not g.adapters]
    return [*bands, Band("", "no network", False, False, tuple(alone))] if alone else bands


def _entry(door: DoorPlan, lan: IPv4Address | None, known: RouterState, now: float, *, by_hand: bool) -> Entry | None:
    outside = lan_place(door, lan)
    at = outside or here(door)
    if at is None or door.means == "none":
        return None
    origin = {"outside": OUTSIDE, "lan": LAN}.get(door.door.origin, HOST)
    router: Endpoint | str = ""
    if origin == OUTSIDE:
        mapping = known.of(door.door.guest, door.door.name, now)
        shut = BY_HAND if by_hand else NOT_LED_IN
        router = endpoint(known.address or ROUTER, mapping.outside_port) if mapping else shut
    return Entry(origin, endpoint(*at), f"{door.door.name} {door.door.to}", router)
