"""The address plan: every adapter's address, chosen in one place, refused if it cannot work.

Pure and stable: the same lab and the same use of the host give the same plan.
"""

from __future__ import annotations

from collections.abc import Iterable
from ipaddress import IPv4Address, IPv4Network, IPv6Address

from dacha.core.findings import Finding, Path
from dacha.core.lab.model import Adapter, Lab
from dacha.core.lab.names import hardware_address
from dacha.core.lab.network import Network
from dacha.core.named import NamedTuple
from dacha.core.plan.networks import middle, plan_networks
from dacha.core.plan.pool import AddressPool, NetworkPlan, wrong
from dacha.core.spelling import did_you_mean


class AdapterPlan(NamedTuple):
    """An adapter with its addresses; `address` is None if it is dynamic: assigned by the LAN of a bridge, or from a
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
    """The plan, the values it chose (path in the lab file → text), and the errors."""

    networks: dict[str, NetworkPlan]
    adapters: dict[tuple[str, int], AdapterPlan]
    chosen: dict[Path, str]
    findings: list[Finding]


def plan_addresses(lab: Lab, host_subnets: Iterable[IPv4Network] = ()) -> AddressPlan:
    """Plan every network and adapter of the lab, without overlap with `host_subnets` (those that this host routes)."""
    plan = AddressPlan({}, {}, {}, [])
    plan_networks(lab, list(host_subnets), plan.networks, plan.chosen, plan.findings)
    pools = {name: AddressPool(lab.networks[name], net, plan.findings) for name, net in plan.networks.items()}
    wanted: list[tuple[str, int, Adapter]] = []
    own = _hardware(lab, plan.chosen)
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
            mac = own[guest.name, n]
            if mac in hardware:
                wrong(
                    plan.findings,
                    "duplicate-hardware-address",
                    (*path, "hardware-address"),
                    f"{mac} is also the hardware address of {hardware[mac]}",
                    "remove it, and Dacha generates one",
                )
            hardware.setdefault(mac, guest.name)
            wanted.append((guest.name, n, adapter))
    # Register all configured addresses before checking any, so that the proposed "free there" is correct.
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
            own[name, n],
            adapter.model,
            address,
            net.subnet.prefixlen if net.subnet else adapter.prefix or 24,
            adapter.address6 or (pool.propose6(name, address) if lab.networks[adapter.network].managed else None),
            net.subnet6.prefixlen if net.subnet6 else adapter.prefix6 or 64,
        )
    return plan


def _hardware(lab: Lab, chosen: dict[Path, str]) -> dict[tuple[str, int], str]:
    """Each adapter's hardware address: the configured one, else one derived from lab, guest and number. If another
    adapter already has that one configured (a renamed guest keeps its own), another one is derived and written to the
    lab file."""
    adapters = {(g.name, n): a for g in lab.guests.values() for n, a in enumerate(g.adapters)}
    stated = {a.hardware_address for a in adapters.values() if a.hardware_address}
    found = {}
    for (guest, n), adapter in adapters.items():
        mac = adapter.hardware_address or hardware_address(lab.name, guest, n)
        for again in range(1, 100):
            if adapter.hardware_address or mac not in stated:
                break
            mac = hardware_address(lab.name, f"{guest}\0{again}", n)
            chosen[(*path_of(guest, n), "hardware-address")] = mac
        found[guest, n] = mac
    return found


def _machines(lab: Lab, pools: dict[str, AddressPool], hardware: dict[str, str], findings: list[Finding]) -> None:
    """Reserve the addresses of machines that are not guests, and report their errors."""
    names: set[str] = set()
    for name, pool in pools.items():
        stated = [(m, Adapter(network=name, address=m.address)) for m in lab.networks[name].machines]
        before = [pool.take(machine.name, adapter)[0] for machine, adapter in stated]
        for (machine, adapter), first in zip(stated, before, strict=True):
            path: Path = ("network", name, "machine", machine.name)
            pool.judge(first, path, adapter)
            if machine.name in lab.guests or machine.name in names:
                what = f"there is a {'guest' if machine.name in lab.guests else 'machine'} {machine.name} already"
                wrong(findings, "duplicate-name", path, what, "choose another name: each name belongs to one machine")
            if machine.hardware_address and (other := hardware.get(machine.hardware_address)):
                what = f"{machine.hardware_address} is also the hardware address of {other}"
                remedy = "run there, and copy the address of its adapter: ip -brief link"
                wrong(findings, "duplicate-hardware-address", (*path, "hardware-address"), what, remedy)
            hardware.setdefault(machine.hardware_address, machine.name)
            names.add(machine.name)


def path_of(guest: str, number: int) -> Path:
    """The path of an adapter in the lab file."""
    return ("guest", guest, "adapter", number)


def _check_dynamic(net: Network, plan: NetworkPlan, path: Path, findings: list[Finding]) -> None:
    """A dynamic address requires a network that assigns addresses, and a range."""
    if net.kind != "bridge" and not net.by_kernel:
        what = f"network {net.name} is in user mode, which assigns planned addresses only"
        wrong(
            findings,
            "dynamic-user-mode",
            path,
            what,
            'set backend = "kernel" in the network, or remove the key address',
        )
    elif net.kind != "bridge" and net.dynamic is None and plan.subnet:
        what = f"network {net.name} has no dynamic range"
        remedy = f'add to the network: dynamic = "{middle(plan.subnet)}-{plan.subnet[-2]}"'
        wrong(findings, "dynamic-no-range", path, what, remedy)


def propose_address(lab: Lab, network: str, host_subnets: Iterable[IPv4Network] = ()) -> IPv4Address | None:
    """The next free address of a network, or None if it is full or has no subnet."""
    plan = plan_addresses(lab, host_subnets)
    pool = AddressPool(lab.networks[network], plan.networks[network], [])
    for adapter in plan.adapters.values():
        if adapter.network == network and adapter.address:
            pool.taken[adapter.address] = adapter.guest
    return pool.next_free()
