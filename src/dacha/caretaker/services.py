"""What the caretaker of a lab serves, derived from the lab and its plan."""

from __future__ import annotations

import socket
from collections.abc import Callable, Iterable
from ipaddress import IPv4Address, IPv6Address
from pathlib import Path

from dacha.caretaker.packets.messages import Names
from dacha.core.lab.model import Lab
from dacha.core.lab.names import domain_of
from dacha.core.lab.network import Network
from dacha.core.named import NamedTuple
from dacha.core.network.links import BridgeLink, KernelPlan
from dacha.core.plan.plan import Plan
from dacha.wire.dhcp.dhcp4_lease import BootFiles, Reservation, Scope
from dacha.wire.dhcp.dhcp6 import Scope6, identifier_of
from dacha.wire.dns.zone import Address, Subnet
from dacha.wire.link.router_advertisement import Advertisement


class Served(NamedTuple):
    """One network: its bridge, its DHCP scope, the addresses that answer DNS, the allowed clients, and whether other
    names are forwarded: without a way out, no query leaves either."""

    bridge: BridgeLink
    scope: Scope | None
    scope6: Scope6 | None
    advertisement: Advertisement | None
    resolvers: tuple[str, ...]
    admitted: tuple[Subnet, ...]
    way_out: bool
    # The network's boot folder, as in the lab file.
    boot: str | None = None


def names_of(lab: Lab, plan: Plan, resolvers: Iterable[str]) -> Names:
    """Every guest's name with its planned addresses on all networks, and the names of other machines."""
    names: dict[str, tuple[Address, ...]] = {}
    for guest in lab.guests:
        names[guest] = tuple(a for x in plan.adapters_of(guest) for a in (x.address, x.address6) if a)
    for network in lab.networks.values():
        names |= {m.name: (m.address,) for m in network.machines}
    subnets = tuple(s for n in plan.networks.values() if n.kind != "bridge" for s in (n.subnet, n.subnet6) if s)
    return Names(domain_of(lab.name), names, subnets, tuple(resolvers))


def host_resolvers(path: Path = Path("/etc/resolv.conf")) -> tuple[str, ...]:
    """The name servers that this host uses (resolv.conf(5))."""
    try:
        lines = path.read_text(errors="replace").splitlines()
    except OSError:
        return ()
    words = (line.split() for line in lines)
    return tuple(_numbered(w[1]) for w in words if len(w) > 1 and w[0] == "nameserver")


def _numbered(address: str) -> str:
    """A link-local address with its link's index instead of its name (RFC 4007 section 11): the packet worker knows no
    names."""
    plain, _, link = address.partition("%")
    if not link or link.isdecimal():
        return address
    try:
        return f"{plain}%{socket.if_nametoindex(link)}"
    except OSError:
        return plain  # the link does not exist, so its resolver is unusable


def served(
    lab: Lab, plan: Plan, kernel: KernelPlan, boot: Callable[[Network], BootFiles | None] = lambda network: None
) -> list[Served]:
    """What to serve on each kernel network; nothing on a bridged LAN. `boot` holds the boot files of networks."""
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
                # A network without a way out announces no router: a guest with a second adapter would lose the right
                # one.
                router=net.gateway if net.kind == "nat" and not net.isolated else None,
                name_servers=servers,
                domain=domain_of(lab.name),
                reservations=_reservations(lab, plan, net.name),
                dynamic=lab.networks[net.name].dynamic,
                boot=boot(lab.networks[net.name]),
            )
        scope6, said = _ip6(lab, plan, bridge)
        way_out = net.kind == "nat" and not net.isolated
        booted = lab.networks[net.name].boot
        files = booted.files if booted else None
        out.append(Served(bridge, scope, scope6, said, addresses, admitted, way_out, files))
    return out


def _ip6(lab: Lab, plan: Plan, bridge: BridgeLink) -> tuple[Scope6 | None, Advertisement | None]:
    net = plan.networks[bridge.network]
    # On a host without IPv6 the bridge has no such address.
    if net.subnet6 is None or net.gateway6 is None or not any(":" in a for a in bridge.addresses):
        return None, None
    hardware = bytes.fromhex(bridge.hardware_address.replace(":", ""))
    servers = tuple(a for a in net.name_servers if isinstance(a, IPv6Address)) or (net.gateway6,)
    mine = [a for a in plan.adapters.values() if a.network == net.name and a.address6]
    reserved = {bytes.fromhex(a.hardware_address.replace(":", "")): a.address6 for a in mine if a.address6}
    scope = Scope6(net.subnet6, identifier_of(hardware), reserved, servers, domain_of(lab.name))
    way_out = net.kind == "nat" and not net.isolated
    return scope, Advertisement(net.subnet6, way_out, servers, domain_of(lab.name), hardware)


def _reservations(lab: Lab, plan: Plan, network: str) -> dict[bytes, Reservation]:
    found = {}
    for machine in lab.networks[network].machines:
        hardware = bytes.fromhex(machine.hardware_address.replace(":", ""))
        found[hardware] = Reservation(hardware, machine.address, machine.name)
    for adapter in plan.adapters.values():
        if adapter.network == network and adapter.address:
            hardware = bytes.fromhex(adapter.hardware_address.replace(":", ""))
            found[hardware] = Reservation(hardware, adapter.address, adapter.guest)
    return found
