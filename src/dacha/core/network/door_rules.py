"""The rules that forward host ports to guests: elements of nftables maps, and the two hooks that look them up.

Ten thousand doors cost one look-up. Only what some door needs is written, because each rule delays every new
connection.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from ipaddress import IPv4Network, IPv6Network, collapse_addresses

from dacha.core.plan.addresses import AdapterPlan
from dacha.core.plan.doors import ANYWHERE, DoorPlan, Forward

# The maps of doors: for every address of this host, for a single address, and for this host's loopback only.
_DOOR_MAPS = ("doors", "doors6", "doors_there", "doors_there6", "doors_here")
# The maps of doors with source limits, each with its sets of allowed sources.
_LIMITS = {
    "limited": ("allowed", "allowed6"),
    "limited_there": ("allowed_there",),
    "limited_there6": ("allowed_there6",),
}


def named_set(name: str, kind: str, elements: Iterable[str], *, what: str = "set", flags: str = "") -> list[str]:
    """A named set (or map) with its elements."""
    inside = ", ".join(elements)
    lines = [f"{what} {name} {{ type {kind};"]
    if flags:
        lines.append(f"flags {flags};")
    if inside:
        lines.append(f"elements = {{ {inside} }}")
    return [*lines, "}"]


def door_element(plan: DoorPlan, forward: Forward) -> tuple[str, str]:
    """The map and the key for one port of a door."""
    name = _map_of(plan)
    listen = "" if name == "doors" else f" . {forward.listen}"
    return name, f"{forward.protocol}{listen} . {forward.port}"


def _map_of(plan: DoorPlan) -> str:
    if not plan.door.from_lan:
        return "doors_here"
    if plan.listen is ANYWHERE or plan.listen == ANYWHERE:
        return "doors"
    return "doors_there" if plan.listen.version == 4 else "doors_there6"


def _address_of(name: str) -> str:
    """The type of addresses in a map or set."""
    return "ipv6_addr" if name.endswith("6") else "ipv4_addr"


def _collapsed(sources: Iterable[IPv4Network | IPv6Network], version: int) -> Iterator[IPv4Network | IPv6Network]:
    """The networks of one IP version, without those contained in another."""
    if version == 4:
        yield from collapse_addresses(n for n in sources if isinstance(n, IPv4Network))
    else:
        yield from collapse_addresses(n for n in sources if isinstance(n, IPv6Network))


class DoorRules:
    """Host ports that are forwarded to guests, as elements of maps. A door on every address of this host is in `doors`,
    one on a single address in `doors_there`; doors for this host only are in `doors_here`, which is never looked up for
    traffic from a link."""

    def __init__(self, doors: list[DoorPlan]) -> None:
        self.maps: dict[str, list[str]] = {name: [] for name in _DOOR_MAPS}
        self.limits: dict[str, list[str]] = {name: [] for lot in _LIMITS.items() for name in (lot[0], *lot[1])}
        # Ten thousand doors are written here: each adapter's addresses are formatted once, and no object is created per
        # port.
        self._texts: dict[int, tuple[str | None, str | None]] = {}
        for plan in doors:
            self._add(plan)

    def _inside(self, adapter: AdapterPlan) -> tuple[str | None, str | None]:
        """An adapter's addresses of both families, as text."""
        # Keyed by identity: the plan keeps the object alive, and hashing it is slow.
        known = self._texts.get(id(adapter))
        if known is None:
            four, six = adapter.address, adapter.address6
            known = self._texts[id(adapter)] = (str(four) if four else None, str(six) if six else None)
        return known

    def _add(self, plan: DoorPlan) -> None:
        door, adapter, port = plan.door, plan.adapter, plan.port
        if plan.means != "forward" or adapter is None or port is None:
            return
        four, six = self._inside(adapter)
        name = _map_of(plan)
        inside = six if name.endswith("6") else four
        if inside is None:
            return
        elements, protocol, to = self.maps[name], door.protocol, door.to.first - port.first
        for number in range(port.first, port.last + 1):
            at = f"{protocol} . {number}"
            if name == "doors":
                elements.append(f"{at} : {inside} . {number + to}")
                if six:
                    self.maps["doors6"].append(f"{at} : {six} . {number + to}")
            else:
                at = f"{protocol} . {plan.listen} . {number}"
                elements.append(f"{at} : {inside} . {number + to}")
            if door.allow:
                self._limit(plan, at)

    def _limit(self, plan: DoorPlan, key: str) -> None:
        """Allow only the sources that the door lists, and only at its listen address."""
        name = _map_of(plan).replace("doors", "limited")
        self.limits[name].append(key)
        for allowed in _LIMITS[name]:
            # An address may be listed twice, by itself and in its subnet: an interval must be unique.
            for source in _collapsed(plan.door.allow, 6 if allowed.endswith("6") else 4):
                self.limits[allowed].append(f"{key} . {source}")

    def declarations(self) -> Iterator[str]:
        """The maps and sets that some door needs. (Each rule delays every new connection.)"""
        key = "inet_proto . inet_service"
        for name, elements in self.maps.items():
            at = _address_of(name)
            place = key if name in ("doors", "doors6") else f"inet_proto . {at} . inet_service"
            if elements:
                yield from named_set(name, f"{place} : {at} . inet_service", elements, what="map")
        for name, lots in _LIMITS.items():
            if self.limits[name]:
                place = key if name == "limited" else f"inet_proto . {_address_of(name)} . inet_service"
                yield from named_set(name, place, self.limits[name])
                for allowed in lots:
                    kind = f"{place} . {_address_of(allowed)}"
                    yield from named_set(allowed, kind, self.limits[allowed], flags="interval")

    def chains(self) -> Iterator[str]:
        """The chains that forward traffic from links, and traffic of this host itself."""
        if any(self.limits.values()):
            # A door with source limits is checked before it is forwarded; this host itself is always allowed.
            yield "chain limits { type filter hook prerouting priority -150; policy accept;"
            yield "ct state established accept"
            for name, lots in _LIMITS.items():
                if self.limits[name]:
                    yield from (self._limit_rule(name, allowed) for allowed in lots)
            yield "}"
        for chain, hook in (("entered", "prerouting"), ("entered_here", "output")):
            rules = [
                self._rule(name)
                for name, elements in self.maps.items()
                if elements and (hook == "output" or name != "doors_here")
            ]
            if rules:
                yield from (f"chain {chain} {{ type nat hook {hook} priority -100; policy accept;", *rules, "}")

    @staticmethod
    def _limit_rule(name: str, allowed: str) -> str:
        family = "ip6" if allowed.endswith("6") else "ip"
        if name == "limited":
            here, key = f"meta nfproto ipv{family[2:] or 4} fib daddr type local", "meta l4proto . th dport"
        else:
            here, key = "", f"meta l4proto . {family} daddr . th dport"
        return f"{here} {key} @{name} {key} . {family} saddr != @{allowed} counter drop".strip()

    @staticmethod
    def _rule(name: str) -> str:
        family = "ip6" if name.endswith("6") else "ip"
        if name in ("doors", "doors6"):
            return f"fib daddr type local dnat {family} to meta l4proto . th dport map @{name}"
        return f"dnat {family} to meta l4proto . {family} daddr . th dport map @{name}"
