"""Learned addresses: where a guest with a dynamic address really is.

The plan says what should be; observed addresses fill what the plan leaves open, so that doors and names follow.
"""

from __future__ import annotations

from collections.abc import Mapping
from ipaddress import IPv4Address

from dacha.core.named import NamedTuple
from dacha.core.plan.plan import Plan

Key = tuple[str, int]
# A guest that uses its address is seen again within this time (ARP entries are renewed within a minute or two).
STALE_S = 600.0


class Sighting(NamedTuple):
    """An address in use by an adapter: last seen `at`, with this address `since` (Unix seconds); `by` is the evidence:
    traffic on the "wire", a DHCP "lease", or the guest's "agent". `others` are its IPv6 addresses."""

    address: IPv4Address | None
    at: float
    since: float = 0.0
    by: str = "wire"
    others: tuple[str, ...] = ()


def learned(plan: Plan, seen: Mapping[Key, Sighting]) -> dict[Key, IPv4Address]:
    """The addresses of adapters without a planned one, by guest and adapter.

    An address is accepted if it is in its network's subnet, not planned for another machine and not reserved. If two
    adapters use the same one, a lease outranks observed traffic, and a newer lease an older one. Of observed traffic
    the older claim wins, because anybody can claim an address; a guest that was not seen for `STALE_S` seconds loses
    its claim.
    """
    owned = {a.address for a in plan.adapters.values()} | {
        a for n in plan.networks.values() for a in (n.gateway, n.resolver)
    }
    open_ones = [(k, seen[k]) for k, a in plan.adapters.items() if a.address is None and k in seen]
    found: dict[Key, IPv4Address] = {}
    taken: set[tuple[str, IPv4Address]] = set()
    latest: dict[tuple[str, IPv4Address | None], float] = {}
    for key, sighting in open_ones:
        place = (plan.adapters[key].network, sighting.address)
        latest[place] = max(latest.get(place, 0.0), sighting.at)

    def rank(row: tuple[Key, Sighting]) -> tuple[bool, bool, float]:
        key, sighting = row
        stale = sighting.at < latest[plan.adapters[key].network, sighting.address] - STALE_S
        leased = sighting.by == "lease"
        return stale, not leased, -sighting.since if leased else sighting.since

    for key, sighting in sorted(open_ones, key=rank):
        network, address = plan.adapters[key].network, sighting.address
        subnet = plan.networks[network].subnet
        if address is None or (subnet is not None and address not in subnet) or address in owned:
            continue
        if (network, address) not in taken:
            taken.add((network, address))
            found[key] = address
    return found


def followed(plan: Plan, where: Mapping[Key, IPv4Address]) -> Plan:
    """The plan with learned addresses, for code that needs the present location of a guest. First-boot data uses the
    plan alone."""
    if not where:
        return plan
    adapters = {k: a._replace(address=where[k]) if k in where else a for k, a in plan.adapters.items()}
    doors = {
        k: d._replace(adapter=adapters[d.adapter.guest, d.adapter.number]) if d.adapter else d
        for k, d in plan.doors.items()
    }
    return plan._replace(adapters=adapters, doors=doors)
