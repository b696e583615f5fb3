"""The address plan: every adapter's address, from one place, refused when it cannot work.

Pure and stable: the same lab and the same use of the host give the same plan.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from ipaddress import IPv4Address, IPv4Network, IPv6Address, IPv6Network
from itertools import chain
from typing import NamedTuple

from dacha.core.findings import ERROR, Finding, Path, subject_of
from dacha.core.identity import hardware_address
from dacha.core.lab import Adapter, Lab, Network
from dacha.core.nearest import did_you_mean
from dacha.core.subnets import UsedSubnets, free_subnet

# Room for a gateway, a resolver and at least three guests (RFC 1918 subnets cost nothing).
SMALLEST = 29
# Proposed addresses begin here where the subnet is large enough: people keep the first ten for machinery.
FIRST_HOST = 10


@dataclass(frozen=True, slots=True, kw_only=True)
class NetworkPlan:
    """A network with nothing left open. `resolver` is the address that answers DNS for its guests."""

    name: str
    kind: str
    subnet: IPv4Network | None
    gateway: IPv4Address | None
    resolver: IPv4Address | None
    subnet6: IPv6Network | None
    gateway6: IPv6Address | None
    name_servers: tuple[IPv4Address | IPv6Address, ...]
    isolated: bool


class AdapterPlan(NamedTuple):
    """An adapter with its addresses; `address` is None only on a bridge whose LAN hands them out."""

    guest: str
    index: int
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
    pools = {name: _Pool(lab.networks[name], net, plan.findings) for name, net in plan.networks.items()}
    wanted: list[tuple[str, int, Adapter]] = []
    hardware: dict[str, str] = {}
    for guest in lab.guests.values():
        for n, adapter in enumerate(guest.adapters):
            path: Path = ("guest", guest.name, "adapter", n)
            if adapter.network not in pools:
                _wrong(plan.findings, "unknown-network", (*path, "network"), f"there is no network {adapter.network}",
                       did_you_mean(adapter.network, lab.networks, "add one: dacha network add NAME"))
                continue
            mac = adapter.hardware_address or hardware_address(lab.name, guest.name, n)
            if mac in hardware:
                _wrong(plan.findings, "duplicate-hardware-address", (*path, "hardware-address"),
                       f"{mac} is also the hardware address of {hardware[mac]}", "leave it out to have one made")
            hardware.setdefault(mac, guest.name)
            wanted.append((guest.name, n, adapter))
    # All stated addresses are taken before any is judged, so that "free there" is truly free.
    claims = [(pools[a.network], *pools[a.network].take(g, a), g, n, a) for g, n, a in wanted]
    for pool, before, before6, name, n, adapter in claims:
        pool.judge(before, ("guest", name, "adapter", n), adapter)
        pool.judge6(before6, ("guest", name, "adapter", n), adapter)
    for name, n, adapter in wanted:
        pool = pools[adapter.network]
        address = adapter.address or pool.propose(name, n, plan.chosen)
        net = pool.plan
        plan.adapters[name, n] = AdapterPlan(
            name, n, adapter.network, adapter.hardware_address or hardware_address(lab.name, name, n), adapter.model,
            address, net.subnet.prefixlen if net.subnet else adapter.prefix or 24,
            adapter.address6, net.subnet6.prefixlen if net.subnet6 else adapter.prefix6 or 64)
    return plan


def propose_address(lab: Lab, network: str, host_subnets: Iterable[IPv4Network] = ()) -> IPv4Address | None:
    """The next free address of one network, or None when it is full or has no subnet."""
    plan = plan_addresses(lab, host_subnets)
    pool = _Pool(lab.networks[network], plan.networks[network], [])
    for adapter in plan.adapters.values():
        if adapter.network == network and adapter.address:
            pool.taken[adapter.address] = adapter.guest
    return pool.next_free()


def _wrong(findings: list[Finding], code: str, path: Path, what: str, remedy: str = "", about: str = "lab") -> None:
    findings.append(Finding(ERROR, code, subject_of(path), what, remedy, path, about))


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
            _wrong(plan.findings, "subnet-small", path, f"{net.subnet} is too small: it has no room for a gateway, "
                   "a resolver and guests", f"the least is a /{SMALLEST}; a /24 costs nothing")
        elif other is not None:
            _wrong(plan.findings, "subnet-overlap", path,
                   f"{net.subnet} overlaps network {owner.get(other, '?')} ({other})", "leave it out to have a free one chosen")
        elif used is not None:
            _wrong(plan.findings, "subnet-in-use", path, f"{net.subnet} overlaps {used}, which this host already uses",
                   "leave it out to have a free one chosen", "host")
        taken_here.add(net.subnet)
        owner[net.subnet] = net.name
    everything = UsedSubnets([*host_subnets, *(n.subnet for n in lab.networks.values() if n.subnet)])
    for net in lab.networks.values():
        subnet = net.subnet
        if subnet is None and net.kind != "bridge":
            subnet = free_subnet(lab.name, net.name, everything)
            if subnet is None:
                _wrong(plan.findings, "no-subnet", ("network", net.name), "no free subnet is left to propose", "write one")
            else:
                everything.add(subnet)
                plan.chosen["network", net.name, "subnet"] = str(subnet)
        plan.networks[net.name] = _network_plan(net, subnet, plan.findings)


def _network_plan(net: Network, subnet: IPv4Network | None, findings: list[Finding]) -> NetworkPlan:
    gateway, resolver = net.gateway, None
    if subnet is not None and net.kind != "bridge" and subnet.prefixlen <= SMALLEST:
        gateway = gateway or subnet.network_address + 1
        resolver = next(a for a in (subnet.network_address + 2, subnet.network_address + 1) if a != gateway)
    for key, inside, value in (("gateway", subnet, net.gateway), ("gateway6", net.subnet6, net.gateway6)):
        path: Path = ("network", net.name, key)
        # A link-local gateway is usual for IPv6 (RFC 4861 section 4.2) and lies in no subnet of the plan.
        if value is not None and not value.is_link_local:
            if inside is None:
                _wrong(findings, "gateway-alone", path, f"{key} {value} without a {'subnet6' if key[-1] == '6' else 'subnet'}",
                       "write the subnet too")
            elif value not in inside:
                _wrong(findings, "gateway-foreign", path, f"{key} {value} is not in {inside}", "write one that is")
    if net.dynamic:
        path = ("network", net.name, "dynamic")
        low, high = net.dynamic
        if subnet is None or low not in subnet or high not in subnet:
            _wrong(findings, "dynamic-foreign", path, f"the dynamic range {low}-{high} is not in {subnet}", "write one that is")
        elif gateway and low <= gateway <= high:
            _wrong(findings, "dynamic-gateway", path, f"the dynamic range holds the gateway {gateway}", "begin it later")
    gateway6 = net.gateway6
    if net.subnet6 is not None and net.kind != "bridge":
        if net.subnet6.prefixlen != 64:
            _wrong(findings, "subnet6-size", ("network", net.name, "subnet6"), f"{net.subnet6} is not a /64",
                   "guests configure themselves on a /64 only (RFC 4291 section 2.5.4)")
        gateway6 = gateway6 or net.subnet6.network_address + 1
    return NetworkPlan(name=net.name, kind=net.kind, subnet=subnet, gateway=gateway, resolver=resolver,
                       subnet6=net.subnet6, gateway6=gateway6, name_servers=net.name_servers, isolated=net.isolated)


class _Pool:
    """The addresses of one network while the plan is made."""

    def __init__(self, network: Network, plan: NetworkPlan, findings: list[Finding]) -> None:
        self.network = network
        self.plan = plan
        self.findings = findings
        self.taken: dict[IPv4Address | IPv6Address, str] = {}
        self._cursor: int | None = None

    def _refuse(self, code: str, path: Path, what: str) -> None:
        free = self.next_free()
        _wrong(self.findings, code, path, what, f"free there: {free}" if free else "")

    def take(self, guest: str, adapter: Adapter) -> tuple[str | None, str | None]:
        """Take the addresses that the lab states; answers who had each of them before."""
        before = self.taken.get(adapter.address) if adapter.address else None
        before6 = self.taken.get(adapter.address6) if adapter.address6 else None
        for address in (adapter.address, adapter.address6):
            if address:
                self.taken.setdefault(address, guest)
        return before, before6

    def judge(self, before: str | None, path: Path, adapter: Adapter) -> None:
        """Say what is wrong with a stated address; `before` is the guest that had it first."""
        address, path = adapter.address, (*path, "address")
        subnet, name = self.plan.subnet, self.plan.name
        if address is None:
            return
        if subnet is None:
            if adapter.prefix is None and self.network.kind == "bridge":
                _wrong(self.findings, "no-subnet", path, f"network {name} has no subnet, so {address} has no prefix length",
                       f'add subnet to the network, or write "{address}/24"')
        elif address not in subnet:
            self._refuse("address-foreign", path, f"address {address} is not in network {name} ({subnet})")
        elif adapter.prefix not in (None, subnet.prefixlen):
            _wrong(self.findings, "prefix", path, f"/{adapter.prefix} differs from the network's /{subnet.prefixlen}",
                   f'write "{address}"')
        elif address == subnet.network_address:
            self._refuse("address-network", path, f"{address} is the network's own address")
        elif address == subnet.broadcast_address:
            self._refuse("address-broadcast", path, f"{address} is the broadcast address of {subnet}")
        elif address == self.plan.gateway:
            self._refuse("address-gateway", path, f"{address} is the gateway of network {name}")
        elif address == self.plan.resolver:
            self._refuse("address-resolver", path, f"{address} answers DNS on network {name}")
        elif self.network.dynamic and self.network.dynamic[0] <= address <= self.network.dynamic[1]:
            self._refuse("address-dynamic", path, f"{address} lies in the dynamic range of network {name}")
        elif before:
            self._refuse("duplicate-address", path, f"{address} is also the address of {before}")

    def judge6(self, before: str | None, path: Path, adapter: Adapter) -> None:
        """The same for IPv6."""
        address, path, subnet = adapter.address6, (*path, "address6"), self.plan.subnet6
        if address is None:
            return
        if subnet is None and self.network.kind != "bridge":
            _wrong(self.findings, "no-subnet6", path, f"network {self.plan.name} has no subnet6", "add one to the network")
        elif subnet is not None and address not in subnet:
            _wrong(self.findings, "address6-foreign", path, f"{address} is not in network {self.plan.name} ({subnet})",
                   "write one that is")
        elif address in (self.plan.gateway6, subnet.network_address if subnet else None):
            _wrong(self.findings, "address6-gateway", path, f"{address} belongs to the router of the network", "choose another")
        elif before:
            _wrong(self.findings, "duplicate-address6", path, f"{address} is also the address of {before}", "choose another")

    def propose(self, guest: str, index: int, chosen: dict[Path, str]) -> IPv4Address | None:
        """Take the lowest free address; on a bridge nothing is proposed, its LAN hands addresses out."""
        if self.network.kind == "bridge" or self.plan.subnet is None:
            return None
        free = self.next_free()
        path: Path = ("guest", guest, "adapter", index, "address")
        if free is None:
            _wrong(self.findings, "subnet-full", path, f"no address is left in network {self.plan.name} ({self.plan.subnet})",
                   "use a larger subnet or another network")
            return None
        self.taken[free] = guest
        chosen[path] = str(free)
        return free

    def next_free(self) -> IPv4Address | None:
        """The lowest address that a guest may have and none has, from the tenth on where there is room."""
        subnet = self.plan.subnet
        if subnet is None or subnet.prefixlen > SMALLEST:
            return None
        low, high = int(subnet.network_address), int(subnet.broadcast_address)
        first = low + FIRST_HOST if subnet.prefixlen <= 27 else low + 1
        # Addresses are only ever taken, so the search goes on where it last ended: linear in all.
        for number in chain(range(self._cursor or first, high), range(low + 1, first)):
            address = IPv4Address(number)
            if self._allowed(address):
                self._cursor = max(number, first)
                return address
        self._cursor = high
        return None

    def _allowed(self, address: IPv4Address) -> bool:
        dynamic = self.network.dynamic
        return (address not in self.taken and address not in (self.plan.gateway, self.plan.resolver)
                and not (dynamic and dynamic[0] <= address <= dynamic[1]))
