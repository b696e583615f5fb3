"""Who can reach what: every guest and service from every place, with the path or the reason against it.

All of it follows from the lab and its plan; what only this host knows (its LAN address, adapters that it shares with
guests) is an argument.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from ipaddress import IPv4Address
from typing import TYPE_CHECKING

from dacha.core.findings import WARNING, Finding
from dacha.core.lab.kinds import ORIGIN_WORDS, SERVICES
from dacha.core.lab.model import Guest, Lab
from dacha.core.lab.network import Network, Ports
from dacha.core.named import NamedTuple
from dacha.core.plan.addresses import AdapterPlan
from dacha.core.plan.doors import ANYWHERE, DoorPlan
from dacha.core.plan.plan import Plan
from dacha.core.router.mapping import UNKNOWN, RouterState, behind, private

if TYPE_CHECKING:
    from dacha.core.lab.kinds import Origin, Service

HOST, LAN, OUTSIDE = "host", "lan", "outside"
# Shown for an unknown address: of a guest with a dynamic one, and of a router that reported none.
BY_DHCP, ROUTER = "by DHCP", "the router"


class Way(NamedTuple):
    """One path: the address and port to type, and what it uses ("own address", "door ssh"); `only` are the allowed
    sources, none for all."""

    address: str
    port: int
    through: str
    only: tuple[str, ...] = ()


class Cell(NamedTuple):
    """What one place can reach: its paths, best first, or why there is none and how to open one. `only` are the allowed
    sources if each path is limited."""

    ways: tuple[Way, ...]
    why: str = ""
    remedy: str = ""
    only: tuple[str, ...] = ()


def _open(ways: Iterable[Way]) -> Cell:
    """A cell with paths: unlimited ones come first, and one of them is sufficient for every client."""
    ordered = tuple(sorted(ways, key=lambda w: bool(w.only)))
    return Cell(ordered, only=() if not ordered[0].only else tuple(s for w in ordered for s in w.only))


class Row(NamedTuple):
    """One service of a guest; `cells` by place, with a network's own name for a machine on it."""

    guest: str
    service: str
    protocol: str
    to: Ports
    doors: tuple[str, ...]
    cells: dict[str, Cell]


class HostView(NamedTuple):
    """Facts of this host: its LAN address, bridge networks whose guests it cannot reach itself, and its knowledge of
    the router."""

    lan: IPv4Address | None = None
    apart: frozenset[str] = frozenset()
    router: RouterState = UNKNOWN
    now: float = 0.0


NOWHERE = HostView()


def places(lab: Lab) -> list[str]:
    """Every place of the lab, nearest first."""
    return [HOST, *lab.networks, LAN, OUTSIDE]


def reach(lab: Lab, plan: Plan, host_view: HostView = NOWHERE, only: Iterable[str] | None = None) -> list[Row]:
    """The whole table, guests in file order, or of some guests only."""
    wanted = None if only is None else set(only)
    seen = places(lab)
    rows = []
    # A network without a way out reaches no other network: the same for every service.
    shut = {
        name: Cell((), f"network {name} has no way out")
        for name, net in lab.networks.items()
        if net.kind != "bridge" and (net.kind == "host-only" or plan.networks[name].isolated)
    }
    for guest in lab.guests.values():
        if wanted is not None and guest.name not in wanted:
            continue
        for service, protocol, to, doors in _services(guest, plan):
            one = _Service(lab, plan, host_view, guest, service, to, doors)
            cells = one.cells(seen, shut)
            rows.append(Row(guest.name, service, protocol, to, tuple(d.door.name for d in doors), cells))
    return rows


def never_entered(lab: Lab, plan: Plan, host_view: HostView) -> list[Finding]:
    """Doors that are unreachable from the place they are meant for."""
    found = []
    for door in plan.doors.values():
        guest = lab.guests[door.door.guest]
        one = _Service(lab, plan, host_view, guest, door.door.service or door.door.name, door.door.to, [door])
        cell = one.cell(door.door.origin)
        if door.means == "none" or cell.ways:
            continue  # a door without a target has a finding already
        subject = f"door {guest.name} {door.door.name}"
        path = ("guest", guest.name, "door", door.door.name)
        what = f"not reachable from {ORIGIN_WORDS[door.door.origin]}: {cell.why}"
        found.append(Finding(WARNING, "door-never", subject, what, cell.remedy, path, "host"))
    return found


def _services(guest: Guest, plan: Plan) -> Iterator[tuple[str, str, Ports, list[DoorPlan]]]:
    """The services of a guest's doors; for a guest without doors, the usual service of its family."""
    found: dict[tuple[str, Ports], list[DoorPlan]] = {}
    for door in guest.doors:
        found.setdefault((door.protocol, door.to), []).append(plan.doors[guest.name, door.name])
    for (protocol, to), doors in found.items():
        yield next((d.door.service for d in doors if d.door.service), doors[0].door.name), protocol, to, doors
    if not found:
        usual: Service = "rdp" if guest.system == "windows" else "ssh"
        yield usual, "tcp", Ports(SERVICES[usual], SERVICES[usual]), []


class _Service:
    """One service, while its row is computed."""

    def __init__(
        self, lab: Lab, plan: Plan, host_view: HostView, guest: Guest, service: str, to: Ports, doors: list[DoorPlan]
    ) -> None:
        self.lab, self.plan, self.host_view, self.guest = lab, plan, host_view, guest
        self.service, self.to, self.doors = service, to, doors
        self.adapters = plan.adapters_of(guest.name)
        self.led = [d for d in doors if d.means == "forward" and d.port]
        # Doors that another network may use, and those that exist on a LAN.
        self.beyond = [d for d in self.led if not d.listen.is_loopback]
        self.on_lan = tuple(self._own(a) for a in self._bridged(by_host=True))
        self.from_host = tuple(self._host())

    def cells(self, places: Iterable[str], shut: Mapping[str, Cell]) -> dict[str, Cell]:
        """The cells by place; `shut` are those of networks without a way out. Identical networks without an own path
        share one cell: a large lab has a hundred thousand of them."""
        own = {a.network for a in self.adapters}
        found: dict[str, Cell] = {}
        alike: dict[tuple[object, ...], Cell] = {}
        for place in places:
            if own and place not in own and place in shut:
                found[place] = shut[place]
                continue
            network = self.lab.networks.get(place)
            # For a door beyond this host, the gateway to type differs by network, and a limit may.
            if network is None or place in own or self.beyond:
                found[place] = self.cell(place)
                continue
            key = (network.kind, network.managed)
            if key not in alike:
                alike[key] = self.cell(place)
            found[place] = alike[key]
        return found

    def cell(self, place: str) -> Cell:
        if not self.adapters:
            return Cell((), "it has no adapter", f"dacha guest edit {self.guest.name} --adapter NETWORK")
        if place == HOST:
            return Cell(self.from_host) if self.from_host else self._not_from_host()
        if place == LAN:
            return self._lan()
        if place == OUTSIDE:
            return self._outside()
        return self._neighbour(self.lab.networks[place])

    def _own(self, adapter: AdapterPlan) -> Way:
        return Way(str(adapter.address or BY_DHCP), self.to.first, "own address")

    def _door(self, door: DoorPlan, address: object, *, limited: bool = False) -> Way:
        assert door.port is not None
        only = tuple(str(n) for n in door.door.allow) if limited else ()
        return Way(str(address), door.port.first, f"door {door.door.name}", only)

    def _bridged(self, *, by_host: bool) -> list[AdapterPlan]:
        """The guest's adapters on a LAN; `by_host` excludes those that this host cannot reach."""
        apart = self.host_view.apart if by_host else frozenset()
        return [a for a in self.adapters if self.lab.networks[a.network].kind == "bridge" and a.network not in apart]

    def _host(self) -> Iterator[Way]:
        for adapter in self.adapters:
            if self.lab.networks[adapter.network].managed:
                yield self._own(adapter)
        yield from self.on_lan
        for door in self.led:
            place = door.enter_at(None)
            if place:
                yield self._door(door, place[0])

    def _not_from_host(self) -> Cell:
        if all(a.network in self.host_view.apart for a in self.adapters):
            interface = self.lab.networks[self.adapters[0].network].interface
            why = f"it is directly on {interface}, which bypasses this host"
            return Cell((), why, "use a bridge on this host instead: made-from")
        return Cell((), "no door", f"dacha door add {self.guest.name} {self.service} --from host")

    def _lan(self, wanted: Origin = "lan") -> Cell:
        ways = [self._own(a) for a in self._bridged(by_host=False)]
        for door in self.led:
            if door.door.from_lan and not door.listen.is_loopback:
                listen = self.host_view.lan or "this host" if door.listen == ANYWHERE else door.listen
                ways.append(self._door(door, listen, limited=True))
        if ways:
            return _open(ways)
        name = self.guest.name
        if all(self.lab.networks[a.network].kind == "host-only" for a in self.adapters):
            inside = next((n.name for n in self.lab.networks.values() if n.kind == "nat"), "NETWORK")
            return Cell((), "host-only", f"dacha guest edit {name} --adapter {inside}")
        if any(d.door.away for d in self.led):
            from dacha.core.plan.places import NAME_IT

            return Cell((), "closed at this place", NAME_IT)
        if self.led:
            remedy = f"dacha door edit {name} {self.led[0].door.name} --from {wanted}"
            return Cell((), "door from this host only", remedy)
        return Cell((), "no door", f"dacha door add {name} {self.service} --from {wanted}")

    def _outside(self) -> Cell:
        mine = [d for d in self.doors if d.door.origin == "outside" and d.means != "none"]
        if mine:
            return self._led_in(mine)
        from_lan = self._lan("outside")
        if not from_lan.ways:
            return from_lan
        verb, door = ("edit", self.doors[0].door.name) if self.doors else ("add", self.service)
        remedy = f"dacha door {verb} {self.guest.name} {door} --from outside"
        return Cell((), "does not reach beyond the LAN" if self.led else "has a LAN address only", remedy)

    def _led_in(self, doors: list[DoorPlan]) -> Cell:
        """From outside: doors that the router is asked to forward."""
        router, now, ways = self.host_view.router, self.host_view.now, []
        why, remedy = "", f"dacha trace {self.guest.name} --from outside"
        above = behind(router.address)
        for door in doors:
            key = (door.door.guest, door.door.name)
            mapping, why_not = router.of(*key, now), router.why_not(*key)
            if private(door.door.allow):
                why = "allows private addresses only"
                remedy = f"dacha door edit {key[0]} {key[1]} --allow SUBNET, or --from lan"
            elif mapping and above:
                why = f"the router is behind another NAT: {above}"
            elif why_not:
                why = f"the router: {why_not}"
            else:
                place = door.enter_at(None)
                port = mapping.outside_port if mapping else door.door.outside_port or (place[1] if place else 0)
                only = tuple(str(n) for n in door.door.allow)
                ways.append(Way(router.address or ROUTER, port, f"door {door.door.name}", only))
        if ways:
            return _open(ways)
        return Cell((), why, remedy)

    def _neighbour(self, network: Network) -> Cell:
        """From a machine on one of the lab's networks."""
        name, net = network.name, self.plan.networks[network.name]
        if network.kind == "bridge":
            return self._lan()
        mine = [a for a in self.adapters if a.network == name]
        if network.managed and mine:
            return Cell(tuple(self._own(a) for a in mine))
        shut = network.kind == "host-only" or net.isolated
        if shut and not network.managed:
            why = "guests are isolated" if mine else f"network {name} has no way out"
            return Cell((), why, 'backend = "kernel", as root' if mine else "")
        # Traffic of a user-mode guest that leaves its segment is sent by QEMU as a program of this host, as far as the
        # gate allows: to doors of guests on its network, and to doors that are not limited to this host.
        led = [] if shut else self.led if mine and not network.managed else self.beyond
        doors = [d for d in led if not d.door.allow or d.admits(net.subnet)]
        here = [d.listen == ANYWHERE or d.listen.is_loopback for d in doors]
        ways = [self._door(d, net.gateway if h else d.listen) for d, h in zip(doors, here, strict=True) if net.gateway]
        if not shut:
            ways = [*self.on_lan, *ways]
        if ways:
            return Cell(tuple(ways))
        if shut:
            return Cell((), f"network {name} has no way out")
        if led:
            return Cell((), "its door allows other clients only")
        if self.led:
            return Cell((), "door from this host only")
        if not any(self.lab.networks[a.network].kind != "host-only" for a in self.adapters):
            return Cell((), "host-only")
        return Cell((), "no door", f"dacha door add {self.guest.name} {self.service} --from lan")
