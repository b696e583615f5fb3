"""What the kernel should have for a lab: bridges, taps and their addresses. The rules are in `ruleset`.

Every link carries an alias that names its lab and purpose; by it Dacha finds its own links again, and touches no other.
"""

from __future__ import annotations

from collections.abc import Collection

from dacha.core.lab.model import Lab
from dacha.core.lab.names import link_name
from dacha.core.lab.network import Network
from dacha.core.named import NamedTuple
from dacha.core.plan.plan import Plan
from dacha.core.sha256 import sha256

# The group of every lab's bridges (ip-link(8)), by which the rules of one lab know those of another.
GROUP = 56004


def tap_group(lab: str) -> int:
    """The group of a lab's taps: what is sent by one that the rules do not know is dropped. Thirty bits of a hash: of a
    thousand labs on one host two have the same group once in two thousand hosts, and no file has to be kept for it."""
    return 1 << 30 | int.from_bytes(sha256(f"taps\0{lab}".encode()).digest()[:4], "big") >> 2


class BridgeLink(NamedTuple):
    """A network's bridge: this host's own foot in it, with the addresses that its guests know as gateway and resolver.

    `addresses` are texts with prefix lengths, as `ip address` shows them.
    """

    name: str
    alias: str
    hardware_address: str
    network: str
    addresses: tuple[str, ...]


class HostBridge(NamedTuple):
    """A bridge over one of this host's adapters, made for the lab: it takes over the host's addresses there."""

    name: str
    alias: str
    adapter: str
    network: str


class VlanLink(NamedTuple):
    """One VLAN of an interface (IEEE 802.1Q), on which a network's guests are put."""

    name: str
    alias: str
    parent: str
    number: int


class TapLink(NamedTuple):
    """A guest's adapter as this host sees it: a port of its network's bridge, opened by QEMU. A `confined` one is on a
    network of the lab's own, whose rules say what it may send."""

    name: str
    alias: str
    hardware_address: str
    bridge: str
    guest: str
    adapter: int
    confined: bool = True


class DirectLink(NamedTuple):
    """A guest's adapter put straight onto a wired adapter of this host, whose own configuration stays as it is.

    This host itself cannot reach such a guest (Linux: macvtap).
    """

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
    """What this host has of a lab's links: the `taps` that exist, and the `plugged`, other programs' links in the lab's
    bridges; and the `bridges` of other programs."""

    taps: frozenset[str] = frozenset()
    plugged: tuple[str, ...] = ()
    bridges: tuple[str, ...] = ()


def alias_prefix(lab: str) -> str:
    """What the aliases of all links of a lab begin with."""
    return f"dacha:{lab}:"


def lan_link(lab: Lab, network: Network) -> str | None:
    """The link of this host on which a bridge network's LAN is; None for another network."""
    return link_name(lab.name, "vlan", network.name) if network.vlan is not None else network.interface


def _hardware(kind: str, lab: str, *parts: str) -> str:
    """A link's own address: stable, or a changed one would leave stale neighbour entries in the guests."""
    digest = sha256("\0".join((kind, lab, *parts)).encode()).digest()
    # A bridge takes the lowest address of its ports unless it has its own, so the taps' begin high.
    return ":".join(f"{b:02x}" for b in (0xFE if kind == "tap" else 0x02, *digest[:5]))


def kernel_plan(lab: Lab, plan: Plan, wired: Collection[str] = (), *, ipv6: bool = True) -> KernelPlan:
    """The links for those networks of the lab that the kernel carries.

    `wired` are those interfaces of bridge networks that are no bridges but adapters. Where the host has no `ipv6`, the
    bridges have no such address.
    """
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
