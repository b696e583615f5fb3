"""The networks of the lab."""

from __future__ import annotations

from ipaddress import IPv4Address, IPv4Network, IPv6Address, IPv6Network
from typing import TYPE_CHECKING

from dacha.core.named import NamedTuple

if TYPE_CHECKING:
    from dacha.core.lab.kinds import Backend, HostProtocol, Kind, WayOut


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
    """Ports of this host that guests of a network may use; `protocol` "all" stands for all of them."""

    protocol: HostProtocol
    ports: Ports

    def __str__(self) -> str:
        return "everything" if self.protocol == "all" else f"{self.protocol} {self.ports}"


class NetworkBoot(NamedTuple):
    """Network boot: a folder, and the first file in it for each kind of firmware (None: one of the usual names); with
    `http`, UEFI downloads by HTTP instead of TFTP."""

    files: str
    bios: str | None = None
    uefi: str | None = None
    http: bool = False


class OtherMachine(NamedTuple):
    """A machine on a network that is not a guest: it has a DHCP reservation, and a name in the lab's domain."""

    name: str
    hardware_address: str
    address: IPv4Address


class Place(NamedTuple):
    """A place that this host may be at: the hardware address of the router there, and its subnet (None: any)."""

    name: str
    router: str
    subnet: IPv4Network | None = None


class Network(NamedTuple):
    """A network of the lab. `subnet` None: the plan chooses a free one (except for a bridge); `made_from` is the
    adapter that the bridge is created over, None for an existing bridge; `to_host` are services of this host that its
    guests may use."""

    name: str
    kind: Kind
    backend: Backend = "auto"
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
    way_out: WayOut = "anywhere"
    boot: NetworkBoot | None = None
    machines: tuple[OtherMachine, ...] = ()

    @property
    def by_kernel(self) -> bool:
        """True for a kernel network: every bridge, and others if the lab says so."""
        return self.kind == "bridge" or self.backend == "kernel"

    @property
    def managed(self) -> bool:
        """True for a kernel network that Dacha manages itself: addresses, names and rules."""
        return self.kind != "bridge" and self.backend == "kernel"
