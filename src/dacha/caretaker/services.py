"""What the caretaker of a lab has to serve, from the lab and its plan."""

from __future__ import annotations

from ipaddress import IPv4Address
from typing import NamedTuple

from dacha.core.kernel_plan import BridgeLink, KernelPlan
from dacha.core.lab import Lab
from dacha.core.plan import Plan
from dacha.wire.dhcp4_server import Reservation, Scope
from dacha.wire.dns_zone import Address, Subnet, Zone


class Served(NamedTuple):
    """One network: its bridge, its DHCP scope, the addresses that answer DNS, and who may ask there."""

    bridge: BridgeLink
    scope: Scope | None
    resolvers: tuple[str, ...]
    admitted: tuple[Subnet, ...]


def domain_of(lab: Lab) -> str:
    """The lab's domain, under the name that is reserved for private use."""
    return f"{lab.name}.internal"


def zone_of(lab: Lab, plan: Plan) -> Zone:
    """Every guest's name with all its planned addresses, on whatever network they are."""
    names: dict[str, list[Address]] = {}
    for guest in lab.guests:
        names[guest] = [a for x in plan.adapters_of(guest) for a in (x.address, x.address6) if a]
    subnets = [s for n in plan.networks.values() if n.kind != "bridge" for s in (n.subnet, n.subnet6) if s]
    return Zone(domain_of(lab), names, subnets)


def served(lab: Lab, plan: Plan, kernel: KernelPlan) -> list[Served]:
    """What is to be served on each network that the kernel carries. Nothing is ever served on a bridged LAN."""
    out = []
    for bridge in kernel.bridges():
        net = plan.networks[bridge.network]
        admitted = tuple(s for s in (net.subnet, net.subnet6) if s)
        addresses = tuple(a.partition("/")[0] for a in bridge.addresses)
        scope = None
        if net.subnet and net.gateway and net.resolver:
            servers = tuple(a for a in net.name_servers if isinstance(a, IPv4Address)) or (net.resolver,)
            scope = Scope(
                subnet=net.subnet,
                server=net.gateway,
                # A network without a way out has no router either: a guest with a second adapter would lose its own.
                router=net.gateway if net.kind == "nat" and not net.isolated else None,
                name_servers=servers,
                domain=domain_of(lab),
                reservations=_reservations(plan, net.name),
                dynamic=lab.networks[net.name].dynamic,
            )
        out.append(Served(bridge, scope, addresses, admitted))
    return out


def _reservations(plan: Plan, network: str) -> dict[bytes, Reservation]:
    found = {}
    for adapter in plan.adapters.values():
        if adapter.network == network and adapter.address:
            hardware = bytes.fromhex(adapter.hardware_address.replace(":", ""))
            found[hardware] = Reservation(hardware, adapter.address, adapter.guest)
    return found
