"""The address plan: every adapter's address, from one place, refused when it cannot work.

Pure and stable: the same lab and the same use of the host give the same plan.
"""

from __future__ import annotations

from collections.abc import Iterable
from ipaddress import IPv4Address, IPv4Network, IPv6Address, IPv6Network

from dacha.core.findings import Finding, Path
from dacha.core.lab.model import Adapter, Lab
from dacha.core.lab.names import hardware_address, local_prefix
from dacha.core.lab.network import Network
from dacha.core.named import NamedTuple
from dacha.core.plan.pool import SMALLEST, AddressPool, NetworkPlan, wrong
from dacha.core.plan.subnets import UsedSubnets, free_subnet
from dacha.core.spelling import did_you_mean


class AdapterPlan(NamedTuple):
    """An adapter with its addresses; `address` is None where it is handed out: by the LAN of a bridge, or from a
    network's dynamic range."""

    guest: str
    number: int
    network: str
    hardware_address: str
    model: str
    address: IPv4Address | None
    prefix: int
    address6: IPv6Address | None
    prefix6: int


class AddressPlan(NamedTuple):
    """The plan, the values it had to choose (path in the lab file → text), and what is wrong."""

    networks: dict[str, NetworkPlan]
    adapters: dict[tuple[str, int], AdapterPlan]
    chosen: dict[Path, str]
    findings: list[Finding]


def plan_addresses(lab: Lab, host_subnets: Iterable[IPv4Network] = ()) -> AddressPlan:
    """Plan every network and adapter of the lab, clear of `host_subnets` (what this host already routes)."""
    plan = AddressPlan({}, {}, {}, [])
    _networks(lab, list(host_subnets), plan)
    pools = {name: AddressPool(lab.networks[name], net, plan.findings) for name, net in plan.networks.items()}
    wanted: list[tuple[str, int, Adapter]] = []
    hardware: dict[str, str] = {}
    for guest in lab.guests.values():
        for n, adapter in enumerate(guest.adapters):
            path = path_of(guest.name, n)
            if adapter.network not in pools:
                wrong(
                    plan.findings,
                    "unknown-network",
                    (*path, "network"),
                    f"there is no network {adapter.network}",
                    did_you_mean(adapter.network, lab.networks, "add one: dacha network add NAME"),
                )
                continue
            mac = adapter.hardware_address or hardware_address(lab.name, guest.name, n)
            if mac in hardware:
                wrong(
                    plan.findings,
                    "duplicate-hardware-address",
                    (*path, "hardware-address"),
                    f"{mac} is also the hardware address of {hardware[mac]}",
                    "leave it out to have one made",
                )
            hardware.setdefault(mac, guest.name)
            wanted.append((guest.name, n, adapter))
    # All stated addresses are taken before any is judged, so that "free there" is truly free.
    claims = [(pools[a.network], *pools[a.network].take(g, a), g, n, a) for g, n, a in wanted]
    _machines(lab, pools, hardware, plan.findings)
    for pool, before, before6, name, n, adapter in claims:
        pool.judge(before, path_of(name, n), adapter)
        pool.judge6(before6, path_of(name, n), adapter)
    for name, n, adapter in wanted:
        pool = pools[adapter.network]
        address = adapter.address or (None if adapter.dynamic else pool.propose(name, n, plan.chosen))
        if adapter.dynamic:
            _check_dynamic(lab.networks[adapter.network], pool.plan, (*path_of(name, n), "address"), plan.findings)
        net = pool.plan
        plan.adapters[name, n] = AdapterPlan(
            name,
            n,
            adapter.network,
            adapter.hardware_address or hardware_address(lab.name, name, n),
            adapter.model,
            address,
            net.subnet.prefixlen if net.subnet else adapter.prefix or 24,
            adapter.address6 or (pool.propose6(name, address) if lab.networks[adapter.network].managed else None),
            net.subnet6.prefixlen if net.subnet6 else adapter.prefix6 or 64,
        )
    return plan


def _machines(lab: Lab, pools: dict[str, AddressPool], hardware: dict[str, str], findings: list[Finding]) -> None:
    """Take the addresses of machines that are no guests, and say what is wrong with them."""
    names: set[str] = set()
    for name, pool in pools.items():
        stated = [(m, Adapter(network=name, address=m.address)) for m in lab.networks[name].machines]
        before = [pool.take(machine.name, adapter)[0] for machine, adapter in stated]
        for (machine, adapter), first in zip(stated, before, strict=True):
            path: Path = ("network", name, "machine", machine.name)
            pool.judge(first, path, adapter)
            if machine.name in lab.guests or machine.name in names:
                what = f"there is a {'guest' if machine.name in lab.guests else 'machine'} {machine.name} already"
                wrong(findings, "duplicate-name", path, what, "a name leads to one machine: choose another")
            if machine.hardware_address and (other := hardware.get(machine.hardware_address)):
                what = f"{machine.hardware_address} is also the hardware address of {other}"
                remedy = "as the machine's own adapter has it: ip -brief link, there"
                wrong(findings, "duplicate-hardware-address", (*path, "hardware-address"), what, remedy)
            hardware.setdefault(machine.hardware_address, machine.name)
            names.add(machine.name)


def path_of(guest: str, number: int) -> Path:
    """The place of an adapter in the lab file."""
    return ("guest", guest, "adapter", number)


def _check_dynamic(net: Network, plan: NetworkPlan, path: Path, findings: list[Finding]) -> None:
    """An address that is handed out needs somebody who hands it out, and a range to take it from."""
    if net.kind != "bridge" and not net.by_kernel:
        what = f"in user mode {net.name} hands out planned addresses only"
        wrong(findings, "dynamic-user-mode", path, what, 'backend = "kernel" for the network, or leave address out')
    elif net.kind != "bridge" and net.dynamic is None and plan.subnet:
        middle = plan.subnet.network_address + plan.subnet.num_addresses // 2
        last = plan.subnet.broadcast_address - 1
        what = f"network {net.name} has no range to take an address from"
        wrong(findings, "dynamic-no-range", path, what, f'add to the network: dynamic = "{middle}-{last}"')


def propose_address(lab: Lab, network: str, host_subnets: Iterable[IPv4Network] = ()) -> IPv4Address | None:
    """The next free address of one network, or None when it is full or has no subnet."""
    plan = plan_addresses(lab, host_subnets)
    pool = AddressPool(lab.networks[network], plan.networks[network], [])
    for adapter in plan.adapters.values():
        if adapter.network == network and adapter.address:
            pool.taken[adapter.address] = adapter.guest
    return pool.next_free()


def _networks(lab: Lab, host_subnets: list[IPv4Network], plan: AddressPlan) -> None:
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
                plan.findings,
                "subnet-small",
                path,
                f"{net.subnet} is too small: it has no room for a gateway, a resolver and guests",
                f"the least is a /{SMALLEST}; a /24 costs nothing",
            )
        elif other is not None:
            wrong(
                plan.findings,
                "subnet-overlap",
                path,
                f"{net.subnet} overlaps network {owner.get(other, '?')} ({other})",
                "leave it out to have a free one chosen",
            )
        elif used is not None:
            wrong(
                plan.findings,
                "subnet-in-use",
                path,
                f"{net.subnet} overlaps {used}, which this host already uses",
                "leave it out to have a free one chosen",
                "host",
            )
        taken_here.add(net.subnet)
        owner[net.subnet] = net.name
    everything = UsedSubnets([*host_subnets, *(n.subnet for n in lab.networks.values() if n.subnet)])
    for net in lab.networks.values():
        subnet = net.subnet
        if subnet is None and net.kind != "bridge":
            subnet = free_subnet(lab.name, net.name, everything)
            if subnet is None:
                wrong(
                    plan.findings, "no-subnet", ("network", net.name), "no free subnet is left to propose", "write one"
                )
            else:
                everything.add(subnet)
                plan.chosen["network", net.name, "subnet"] = str(subnet)
        subnet6 = net.subnet6 or (local_prefix(lab.name, net.name) if net.managed else None)
        plan.networks[net.name] = _network_plan(net, subnet, subnet6, plan.findings)


def _network_plan(
    net: Network, subnet: IPv4Network | None, subnet6: IPv6Network | None, findings: list[Finding]
) -> NetworkPlan:
    gateway, resolver = net.gateway, None
    if subnet is not None and net.kind != "bridge" and subnet.prefixlen <= SMALLEST:
        gateway = gateway or subnet.network_address + 1
        resolver = next(a for a in (subnet.network_address + 2, subnet.network_address + 1) if a != gateway)
    for key, inside, value in (("gateway", net.subnet, net.gateway), ("gateway6", net.subnet6, net.gateway6)):
        path: Path = ("network", net.name, key)
        # A link-local gateway is usual for IPv6 (RFC 4861 section 4.2) and lies in no subnet of the plan.
        if value is not None and not value.is_link_local:
            if inside is None:
                wrong(
                    findings,
                    "gateway-alone",
                    path,
                    f"{key} {value} without a {'subnet6' if key[-1] == '6' else 'subnet'}",
                    "write the subnet too",
                )
            elif value not in inside:
                wrong(findings, "gateway-foreign", path, f"{key} {value} is not in {inside}", "write one that is")
    if net.dynamic:
        path = ("network", net.name, "dynamic")
        low, high = net.dynamic
        if subnet is None or low not in subnet or high not in subnet:
            wrong(
                findings,
                "dynamic-foreign",
                path,
                f"the dynamic range {low}-{high} is not in {subnet}",
                "write one that is",
            )
        elif gateway and low <= gateway <= high:
            wrong(findings, "dynamic-gateway", path, f"the dynamic range holds the gateway {gateway}", "begin it later")
    gateway6 = net.gateway6
    if subnet6 is not None and net.kind != "bridge":
        if subnet6.prefixlen != 64:
            wrong(
                findings,
                "subnet6-size",
                ("network", net.name, "subnet6"),
                f"{subnet6} is not a /64",
                "guests configure themselves on a /64 only (RFC 4291 section 2.5.4)",
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
