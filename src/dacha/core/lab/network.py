"""The part of the lab that one network is."""

from __future__ import annotations

from ipaddress import IPv4Address, IPv4Network, IPv6Address, IPv6Network

from dacha.core.named import NamedTuple


class Ports(NamedTuple):
    """One port or a closed range of ports."""

    first: int
    last: int

    @property
    def width(self) -> int:
        return self.last - self.first + 1

    def __str__(self) -> str:
        return str(self.first) if self.first == self.last else f"{self.first}-{self.last}"


class HostPorts(NamedTuple):
    """Ports of this host that guests of a network may use; `protocol` "all" stands for everything."""

    protocol: str
    ports: Ports

    def __str__(self) -> str:
        return "everything" if self.protocol == "all" else f"{self.protocol} {self.ports}"


class NetworkBoot(NamedTuple):
    """What machines on a network can start from over it: a folder, and the first file in it for each kind of firmware
    (None: one of the usual names); with `http` UEFI fetches it by HTTP, not by TFTP."""

    files: str
    bios: str | None = None
    uefi: str | None = None
    http: bool = False


class OtherMachine(NamedTuple):
    """A machine on a network that is no guest: it gets its address by DHCP, and has its name in the lab's domain."""

    name: str
    hardware_address: str
    address: IPv4Address


class Network(NamedTuple):
    """A network of the lab. `subnet` None asks the plan for a free one (not on a bridge); `made_from` is the adapter
    over which the bridge is made, None for one that is there; `to_host` is what its guests may use of this host."""

    name: str
    kind: str
    backend: str = "auto"
    interface: str | None = None
    made_from: str | None = None
    vlan: int | None = None
    subnet: IPv4Network | None = None
    gateway: IPv4Address | None = None
    subnet6: IPv6Network | None = None
    gateway6: IPv6Address | None = None
    dynamic: tuple[IPv4Address, IPv4Address] | None = None
    name_servers: tuple[IPv4Address | IPv6Address, ...] = ()
    isolated: bool = False
    to_host: tuple[HostPorts, ...] = ()
    way_out: str = "anywhere"
    boot: NetworkBoot | None = None
    machines: tuple[OtherMachine, ...] = ()

    @property
    def by_kernel(self) -> bool:
        """True when the kernel carries it: a bridge always, the others when the lab says so."""
        return self.kind == "bridge" or self.backend == "kernel"

    @property
    def managed(self) -> bool:
        """True when the network is the kernel's and Dacha's own, with its addresses, names and rules."""
        return self.kind != "bridge" and self.backend == "kernel"
