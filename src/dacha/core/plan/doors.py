"""Doors: from "who may enter what" to host ports and forwards.

A door on a user-mode network becomes host forwards; on a bridge it is the guest's own address. A missing host port is
chosen here, derived from the guest's address, and so stable.
"""

from __future__ import annotations

from collections.abc import Iterable
from ipaddress import IPv4Address, IPv4Network, IPv6Address
from typing import TYPE_CHECKING

from dacha.core.endpoint import Endpoint
from dacha.core.findings import ERROR, Finding, Path
from dacha.core.lab.model import Door, Guest, Lab
from dacha.core.lab.network import Ports
from dacha.core.named import NamedTuple
from dacha.core.plan.addresses import AdapterPlan, AddressPlan
from dacha.core.plan.door_check import check_listen, check_listen6, check_own, isolation
from dacha.core.spelling import did_you_mean

if TYPE_CHECKING:
    from dacha.core.lab.kinds import Backend, Means, Protocol

Address = IPv4Address | IPv6Address
LOOPBACK = IPv4Address("127.0.0.1")
ANYWHERE, ANYWHERE6 = IPv4Address("0.0.0.0"), IPv6Address("::")
# First candidate for a host port, by service; the guest's last octet is added, so that the guest at .10 gets 2210 for
# SSH and ports are easy to recognize.
PORT_BASES = {"ssh": 2200, "rdp": 3400, "vnc": 6000, "http": 8000, "https": 8400}
OTHER_BASE = 20000


def endpoint(address: object, port: int) -> Endpoint:
    """An endpoint at an address of any type."""
    return Endpoint(str(address), port)


class Forward(NamedTuple):
    """One host port that is forwarded to one guest port."""

    protocol: Protocol
    listen: Address
    port: int
    address: Address
    to: int

    def __str__(self) -> str:
        return f"{self.protocol} {endpoint(self.listen, self.port)} → {endpoint(self.address, self.to)}"


class DoorPlan(NamedTuple):
    """A door with all values decided: its adapter, listen address, host ports.

    `means` is "forward" (host ports), "own" (the guest's own address on a bridge) or "none" (unreachable; a finding
    gives the reason). `backend` is what carries a forward: QEMU's "user" mode, or the "kernel".
    """

    door: Door
    means: Means
    adapter: AdapterPlan | None
    listen: Address
    port: Ports | None
    backend: Backend = "user"

    def forwards(self) -> list[Forward]:
        """The host forwards of this door; empty unless `means` is "forward"."""
        if self.means != "forward" or self.port is None or self.adapter is None:
            return []
        inside = self.adapter.address6 if self.listen.version == 6 else self.adapter.address
        if inside is None:
            return []
        return [
            Forward(self.door.protocol, self.listen, self.port.first + n, inside, self.door.to.first + n)
            for n in range(self.port.width)
        ]

    def admits(self, subnet: IPv4Network | None) -> bool:
        """True if it allows machines of this subnet."""
        allowed = [n for n in self.door.allow if isinstance(n, IPv4Network)]
        return not self.door.allow or any(subnet is not None and n.overlaps(subnet) for n in allowed)

    def open_to_user_mode(self, subnet: IPv4Network | None, *, mine: bool) -> bool:
        """True if guests on a user-mode network can enter it through this host: every door that is not for this host
        only, and with `mine` (the door's own guest is on that network) each of its doors."""
        return self.means == "forward" and (mine or not self.listen.is_loopback) and self.admits(subnet)

    def enter_at(self, host_address: IPv4Address | None) -> tuple[Address, int] | None:
        """Where a client connects: address and first port. `host_address` is this host's on the LAN."""
        if self.means == "own" and self.adapter and self.adapter.address:
            return self.adapter.address, self.door.to.first
        if self.means != "forward" or self.port is None:
            return None
        listen = host_address or LOOPBACK if self.listen == ANYWHERE else self.listen
        return listen, self.port.first


def here(door: DoorPlan) -> tuple[str, int] | None:
    """Where this host itself connects: address and first port; None if it cannot."""
    place = door.enter_at(LOOPBACK)
    return None if place is None else (str(place[0]), place[1])


def lan_place(door: DoorPlan, lan: IPv4Address | None) -> tuple[Address, int] | None:
    """Where a machine on the LAN connects; None for a door from this host only."""
    if not door.door.from_lan:
        return None
    return door.enter_at(lan) if lan or door.listen != ANYWHERE else None


def entered_at(door: DoorPlan, lan: IPv4Address | None) -> tuple[str, int] | None:
    """Where this host probes a door: at its LAN address, for a door from the LAN."""
    place = lan_place(door, lan)
    return (str(place[0]), place[1]) if place else here(door)


class _TakenPorts:
    """Host ports in use by doors. Ranges are narrow (`read.RANGE_MOST`), so each port is stored by itself."""

    def __init__(self) -> None:
        self._at: dict[tuple[str, int], list[tuple[Address, Door]]] = {}

    def free(self, protocol: str, port: int) -> bool:
        return (protocol, port) not in self._at

    def clash(self, protocol: str, listen: Address, ports: Ports) -> Door | None:
        """The door that already has one of these ports on this listen address, or on all addresses."""
        for port in range(ports.first, ports.last + 1):
            for where, door in self._at.get((protocol, port), ()):
                if where == listen or ANYWHERE in (where, listen):
                    return door
        return None

    def take(self, protocol: str, listen: Address, ports: Ports, door: Door) -> None:
        for port in range(ports.first, ports.last + 1):
            self._at.setdefault((protocol, port), []).append((listen, door))


def plan_doors(
    lab: Lab,
    addresses: AddressPlan,
    held_ports: Iterable[tuple[str, int]] = (),
) -> tuple[dict[tuple[str, str], DoorPlan], dict[Path, str], list[Finding]]:
    """Plan every door: the doors by (guest, name), the chosen host ports, and the errors. `held_ports` are (protocol,
    port) used by other programs on this host; none of them is chosen."""
    findings: list[Finding] = []
    taken = _TakenPorts()
    plans = {(d.guest, d.name): _door(d, lab, addresses, taken, findings) for d in lab.doors()}
    chosen: dict[Path, str] = {}
    held, cursors = set(held_ports), dict[tuple[str, int], int]()
    # Configured ports are registered before any is chosen, regardless of their order in the file.
    for key, planned in plans.items():
        if planned.means != "forward" or planned.port is not None or planned.adapter is None:
            continue
        path: Path = ("guest", *key[:1], "door", *key[1:], "port")
        port = _free_port(planned.door, planned.adapter, taken, held, cursors)
        if port is None:
            what, about = "no free host port is left to propose", f"door {' '.join(key)}"
            findings.append(Finding(ERROR, "no-port", about, what, "choose one and set it", path[:-1]))
            continue
        taken.take(planned.door.protocol, planned.listen, port, planned.door)
        chosen[path] = str(port)
        plans[key] = planned._replace(port=port)
    return plans, chosen, findings


def _door(door: Door, lab: Lab, addresses: AddressPlan, taken: _TakenPorts, findings: list[Finding]) -> DoorPlan:
    """One door, as far as the file decides it; its port is registered."""
    path: Path = ("guest", door.guest, "door", door.name)
    adapter = _adapter_for(door, lab.guests[door.guest], lab, addresses, path, findings)
    listen = door.listen or (ANYWHERE if door.from_lan else LOOPBACK)
    if listen == ANYWHERE6:
        listen = ANYWHERE  # Both address families, as such a socket has them (RFC 3493 section 5.3).
    network = lab.networks[adapter.network] if adapter else None
    means: Means = "none" if network is None else "own" if network.kind == "bridge" else "forward"
    if network and network.kind == "host-only" and door.from_lan:
        findings.append(isolation(door, lab, path))
        means = "none"
    check_listen(door, network, path, findings, simulated=lab.simulated)
    if means == "own":
        check_own(door, path, findings)
    if door.listen and door.listen.version == 6 and means != "own":
        check_listen6(door, network, adapter, path, findings)
    if means == "forward" and door.port:
        other = taken.clash(door.protocol, listen, door.port)
        if other:
            what = f"port {door.port} of this host is also the port of door {other.guest} {other.name}"
            about, remedy = f"door {door.guest} {door.name}", "choose another, or remove the key port"
            findings.append(Finding(ERROR, "duplicate-port", about, what, remedy, (*path, "port")))
        taken.take(door.protocol, listen, door.port, door)
    backend: Backend = "kernel" if network and network.by_kernel else "user"
    return DoorPlan(door, means, adapter, listen, door.port if means == "forward" else None, backend)


def _adapter_for(
    door: Door, guest: Guest, lab: Lab, addresses: AddressPlan, path: Path, findings: list[Finding]
) -> AdapterPlan | None:
    """The adapter that a door uses: the one on the named network, else the first that supports it."""
    subject = f"door {door.guest} {door.name}"
    mine = [a for n in range(len(guest.adapters)) if (a := addresses.adapters.get((guest.name, n)))]
    if door.network is not None:
        for adapter in mine:
            if adapter.network == door.network:
                return adapter
        findings.append(
            Finding(
                ERROR,
                "door-network",
                subject,
                f"network: {guest.name} has no adapter on {door.network}",
                did_you_mean(door.network, {a.network for a in mine}),
                (*path, "network"),
            )
        )
        return None
    if not guest.adapters:
        findings.append(
            Finding(
                ERROR,
                "door-no-adapter",
                subject,
                f"{guest.name} has no adapter, so it is not reachable",
                f"dacha guest edit {guest.name} --adapter NETWORK",
                path,
            )
        )
    open_ones = [a for a in mine if door.origin == "host" or lab.networks[a.network].kind != "host-only"]
    return next(iter(open_ones or mine), None)


def _free_port(
    door: Door,
    adapter: AdapterPlan,
    taken: _TakenPorts,
    held: set[tuple[str, int]],
    cursors: dict[tuple[str, int], int],
) -> Ports | None:
    """The lowest free ports from the door's base on; `cursors` keep the search linear over many doors."""
    base = PORT_BASES.get(door.service or "", OTHER_BASE) + int(adapter.address or 0) % 256
    at = cursors.get((door.protocol, base), base)
    run = 0
    while run < door.to.width:
        if at > 65535:
            return None
        run = run + 1 if taken.free(door.protocol, at) and (door.protocol, at) not in held else 0
        at += 1
    cursors[door.protocol, base] = at
    return Ports(at - door.to.width, at - 1)
