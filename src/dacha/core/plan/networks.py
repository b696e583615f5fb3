"""Every network's subnets, gateway and resolver, refused if machines could not work with them. Pure and stable, as the
first part of the address plan."""

from __future__ import annotations

from ipaddress import IPv4Address, IPv4Network, IPv6Network

from dacha.core.findings import Finding, Path
from dacha.core.lab.model import Lab
from dacha.core.lab.names import local_prefix
from dacha.core.lab.network import Network
from dacha.core.plan.pool import SMALLEST, NetworkPlan, wrong
from dacha.core.plan.subnets import UsedSubnets, free_subnet


def plan_networks(
    lab: Lab, host_subnets: list[IPv4Network], networks: dict[str, NetworkPlan], chosen: dict[Path, str],
    findings: list[Finding],
) -> None:  # fmt: skip
    """Plan every network of the lab into `networks`, without overlap with `host_subnets`; chosen values go to `chosen`,
    errors to the findings."""
    _judge(lab, host_subnets, findings)
    _subnets6(lab, findings)
    everything = UsedSubnets([*host_subnets, *(n.subnet for n in lab.networks.values() if n.subnet)])
    for net in lab.networks.values():
        subnet = net.subnet
        if subnet is None and net.kind != "bridge":
            subnet = free_subnet(lab.name, net.name, everything)
            if subnet is None:
                wrong(findings, "no-subnet", ("network", net.name), "no free subnet is left to propose", "write one")
            else:
                everything.add(subnet)
                chosen["network", net.name, "subnet"] = str(subnet)
        subnet6 = net.subnet6 or (local_prefix(lab.name, net.name) if net.managed else None)
        networks[net.name] = _network_plan(net, subnet, subnet6, findings)


def _judge(lab: Lab, host_subnets: list[IPv4Network], findings: list[Finding]) -> None:
    """Check the configured IPv4 subnets."""
    taken_here = UsedSubnets()
    on_host = UsedSubnets(host_subnets)
    owner: dict[IPv4Network, str] = {}
    for net in lab.networks.values():
        if net.subnet is None or net.kind == "bridge":
            continue
        path: Path = ("network", net.name, "subnet")
        other = taken_here.overlapping(net.subnet)
        used = on_host.overlapping(net.subnet)
        if net.subnet.prefixlen > SMALLEST:
            wrong(
                findings,
                "subnet-small",
                path,
                f"{net.subnet} is too small: it does not hold a gateway, a resolver and guests",
                f"use a /{SMALLEST} or larger, such as a /24",
            )
        elif other is not None:
            wrong(
                findings,
                "subnet-overlap",
                path,
                f"{net.subnet} overlaps network {owner.get(other, '?')} ({other})",
                "remove it, and Dacha chooses a free one",
            )
        elif used is not None:
            wrong(
                findings,
                "subnet-in-use",
                path,
                f"{net.subnet} overlaps {used}, which is in use on this host",
                "remove it, and Dacha chooses a free one",
                "host",
            )
        if why := _no_subnet_of_guests(net.subnet):
            remedy = "remove it, and Dacha chooses a free one"
            wrong(findings, "subnet-reserved", path, f"{net.subnet} {why}", remedy)
        taken_here.add(net.subnet)
        owner[net.subnet] = net.name


def _no_subnet_of_guests(subnet: IPv4Network) -> str:
    """Why machines cannot have addresses of this subnet (RFC 6890, RFC 5771); "" if they can."""
    for block, why in (
        ("0.0.0.0/8", 'means "this network"'),
        ("127.0.0.0/8", "is the loopback of each machine"),
        ("169.254.0.0/16", "is link-local: no router forwards it"),
        ("224.0.0.0/3", "is multicast or reserved"),
    ):
        if subnet.overlaps(IPv4Network(block)):
            return why
    return ""


def _subnets6(lab: Lab, findings: list[Finding]) -> None:
    """IPv6 subnets that overlap, or that no router may forward."""
    owner: dict[IPv6Network, str] = {}
    for net in lab.networks.values():
        if net.subnet6 is None or net.kind == "bridge":
            continue
        path: Path = ("network", net.name, "subnet6")
        remedy = "remove it, and Dacha chooses one for this lab"
        if other := next((n for s, n in owner.items() if s.overlaps(net.subnet6)), None):
            wrong(findings, "subnet-overlap", path, f"{net.subnet6} overlaps network {other}", remedy)
        first = net.subnet6.network_address
        if first.is_link_local or first.is_multicast or first.is_loopback or first.is_unspecified:
            what = f"{net.subnet6} is link-local, multicast or loopback"
            wrong(findings, "subnet-reserved", path, what, remedy)
        owner[net.subnet6] = net.name


def _network_plan(
    net: Network, subnet: IPv4Network | None, subnet6: IPv6Network | None, findings: list[Finding]
) -> NetworkPlan:
    gateway, resolver = net.gateway, None
    if subnet is not None and net.kind != "bridge" and subnet.prefixlen <= SMALLEST:
        gateway = gateway or subnet.network_address + 1
        resolver = next(a for a in (subnet.network_address + 2, subnet.network_address + 1) if a != gateway)
    for key, inside, value in (("gateway", net.subnet, net.gateway), ("gateway6", net.subnet6, net.gateway6)):
        path: Path = ("network", net.name, key)
        # A link-local gateway is usual for IPv6 (RFC 4861 section 4.2), and is in no subnet of the plan.
        if value is not None and not value.is_link_local:
            if inside is None:
                wrong(
                    findings,
                    "gateway-alone",
                    path,
                    f"{key} {value} without a {'subnet6' if key[-1] == '6' else 'subnet'}",
                    "add the key subnet",
                )
            elif value not in inside:
                wrong(
                    findings, "gateway-foreign", path, f"{key} {value} is not in {inside}", "choose one in this subnet"
                )
            elif isinstance(inside, IPv4Network) and inside.prefixlen < 31 and value in _ends(inside):
                what = f"{key} {value} is the {'network' if value == inside[0] else 'broadcast'} address of {inside}"
                wrong(findings, "gateway-end", path, what, f"choose another, such as {inside[1]}")
    if net.dynamic:
        _check_range(net, *net.dynamic, subnet, gateway, resolver, findings)
    gateway6 = net.gateway6
    if subnet6 is not None and net.kind != "bridge":
        if subnet6.prefixlen != 64:
            wrong(
                findings,
                "subnet6-size",
                ("network", net.name, "subnet6"),
                f"{subnet6} is not a /64",
                "automatic address configuration requires a /64 (RFC 4291 section 2.5.4)",
            )
        gateway6 = gateway6 or subnet6.network_address + 1
    return NetworkPlan(
        name=net.name,
        kind=net.kind,
        subnet=subnet,
        gateway=gateway,
        resolver=resolver,
        subnet6=subnet6,
        gateway6=gateway6,
        name_servers=net.name_servers,
        isolated=net.isolated,
    )


def _check_range(
    net: Network,
    low: IPv4Address,
    high: IPv4Address,
    subnet: IPv4Network | None,
    gateway: IPv4Address | None,
    resolver: IPv4Address | None,
    findings: list[Finding],
) -> None:
    """Check a dynamic range."""
    path: Path = ("network", net.name, "dynamic")
    if subnet is None or low not in subnet or high not in subnet:
        what = f"the dynamic range {low}-{high} is not in {subnet}"
        wrong(findings, "dynamic-foreign", path, what, "choose one in this subnet")
        return
    first, last = _ends(subnet)
    own = {"gateway": gateway, "resolver": resolver, "network address": first, "broadcast address": last}
    held = [f"the {which} {address}" for which, address in own.items() if address and low <= address <= high]
    if held:
        what = f"the dynamic range {low}-{high} contains {', '.join(held)}"
        remedy = f'choose a range without it, such as dynamic = "{middle(subnet)}-{subnet[-2]}"'
        wrong(findings, "dynamic-gateway", path, what, remedy)


def _ends(subnet: IPv4Network) -> tuple[IPv4Address, IPv4Address]:
    """The addresses that no machine can have: network and broadcast address (RFC 1122 section 3.2.1.3)."""
    return subnet.network_address, subnet.broadcast_address


def middle(subnet: IPv4Network) -> IPv4Address:
    """The address in the middle of a subnet, as a suggested start of a dynamic range."""
    return subnet.network_address + subnet.num_addresses // 2
