"""The links that the kernel should have for a lab: bridges, taps and their addresses. The rules are in `rules`.

Every link has an alias with its lab and purpose, by which Dacha recognizes its own links; it changes no other.
"""

from __future__ import annotations

from collections.abc import Collection

from dacha.core.lab.model import Lab
from dacha.core.lab.names import link_name
from dacha.core.lab.network import Network
from dacha.core.named import NamedTuple
from dacha.core.plan.plan import Plan
from dacha.core.sha256 import sha256

# The group of every lab's bridges (ip-link(8)), by which the rules of one lab recognize those of another.
GROUP = 56004


def tap_group(lab: str) -> int:
    """The group of a lab's taps: traffic of a tap that the rules do not know is dropped. Thirty bits of a hash: among a
    thousand labs on one host, two have the same group once in two thousand hosts, and no file is needed."""
    return 1 << 30 | int.from_bytes(sha256(f"taps\0{lab}".encode()).digest()[:4], "big") >> 2


class BridgeLink(NamedTuple):
    """A network's bridge, with the addresses that its guests use as gateway and name server. `addresses` are texts with
    prefix lengths, as `ip address` shows them."""

    name: str
    alias: str
    hardware_address: str
    network: str
    addresses: tuple[str, ...]


class HostBridge(NamedTuple):
    """A bridge over one of this host's adapters, created for the lab: it takes over the host's addresses there."""

    name: str
    alias: str
    adapter: str
    network: str


class VlanLink(NamedTuple):
    """One VLAN of an interface (IEEE 802.1Q), for a network's guests."""

    name: str
    alias: str
    parent: str
    number: int


class TapLink(NamedTuple):
    """A guest's adapter on this host: a port of its network's bridge, opened by QEMU. A `confined` one is on a managed
    network, whose rules restrict what it may send."""

    name: str
    alias: str
    hardware_address: str
    bridge: str
    guest: str
    adapter: int
    confined: bool = True


class DirectLink(NamedTuple):
    """A guest's adapter directly on a wired adapter of this host, whose own configuration does not change. This host
    itself cannot reach such a guest (Linux: macvtap)."""

    name: str
    alias: str
    hardware_address: str
    parent: str
    guest: str
    adapter: int


Link = BridgeLink | HostBridge | VlanLink | TapLink | DirectLink


class KernelPlan(NamedTuple):
    """Every link of a lab, by name: bridges first, in file order."""

    links: dict[str, Link]

    def bridge_of(self, network: str) -> BridgeLink | None:
        for link in self.links.values():
            if isinstance(link, BridgeLink) and link.network == network:
                return link
        return None

    def bridges(self) -> list[BridgeLink]:
        return [link for link in self.links.values() if isinstance(link, BridgeLink)]

    def taps(self) -> list[TapLink]:
        return [link for link in self.links.values() if isinstance(link, TapLink)]


class Ports(NamedTuple):
    """The existing links of a lab: its `taps`, other programs' links in its bridges (`plugged`), and the `bridges` of
    other programs."""

    taps: frozenset[str] = frozenset()
    plugged: tuple[str, ...] = ()
    bridges: tuple[str, ...] = ()


def alias_prefix(lab: str) -> str:
    """The prefix of the aliases of all links of a lab."""
    return f"dacha:{lab}:"


def lan_link(lab: Lab, network: Network) -> str | None:
    """The link of this host that a bridge network's LAN is on; None for another network."""
    return link_name(lab.name, "vlan", network.name) if network.vlan is not None else network.interface


def _hardware(kind: str, lab: str, *parts: str) -> str:
    """A link's own address: stable, because a changed one would leave stale neighbour entries in the guests."""
    digest = sha256("\0".join((kind, lab, *parts)).encode()).digest()
    # A bridge uses the lowest address of its ports unless it has its own, so those of the taps begin high.
    return ":".join(f"{b:02x}" for b in (0xFE if kind == "tap" else 0x02, *digest[:5]))


def kernel_plan(lab: Lab, plan: Plan, wired: Collection[str] = (), *, ipv6: bool = True) -> KernelPlan:
    """The links for the lab's kernel networks. `wired` are the interfaces of bridge networks that are adapters, not
    bridges. Without `ipv6` on the host, the bridges have no IPv6 addresses."""
    links: dict[str, Link] = {}
    for name in [n.name for n in lab.networks.values() if n.managed]:
        net = plan.networks[name]
        addresses = []
        if net.subnet:
            own = dict.fromkeys(a for a in (net.gateway, net.resolver) if a)
            addresses += [f"{a}/{net.subnet.prefixlen}" for a in own]
        if net.subnet6 and net.gateway6 and ipv6:
            addresses.append(f"{net.gateway6}/{net.subnet6.prefixlen}")
        bridge = BridgeLink(
            name=link_name(lab.name, "network", name),
            alias=f"{alias_prefix(lab.name)}network:{name}",
            hardware_address=_hardware("bridge", lab.name, name),
            network=name,
            addresses=tuple(addresses),
        )
        links[bridge.name] = bridge
    bridges = {link.network: link.name for link in links.values() if isinstance(link, BridgeLink)}
    for network in lab.networks.values():
        if network.made_from and network.interface:
            alias = f"{alias_prefix(lab.name)}bridge:{network.made_from}"
            links[network.interface] = HostBridge(network.interface, alias, network.made_from, network.name)
        if network.vlan is not None and network.interface:
            vlan = lan_link(lab, network) or ""
            alias = f"{alias_prefix(lab.name)}vlan:{network.name}"
            links[vlan] = VlanLink(vlan, alias, network.interface, network.vlan)
            bridges[network.name] = vlan
    for adapter in plan.adapters.values():
        network, number = lab.networks[adapter.network], str(adapter.number)
        if not network.by_kernel:
            continue
        name = link_name(lab.name, "guest", adapter.guest, number)
        alias = f"{alias_prefix(lab.name)}guest:{adapter.guest}:{number}"
        other = bridges.get(adapter.network) or network.interface or ""
        if other in wired or network.vlan is not None:
            links[name] = DirectLink(name, alias, adapter.hardware_address, other, adapter.guest, adapter.number)
        else:
            hardware = _hardware("tap", lab.name, adapter.guest, number)
            managed = network.managed
            links[name] = TapLink(name, alias, hardware, other, adapter.guest, adapter.number, managed)
    return KernelPlan(links)
