"""Plain values of the DHCP server: its network, leases, and the actions that it returns."""

from __future__ import annotations

from ipaddress import IPv4Address, IPv4Network

from dacha.core.named import NamedTuple
from dacha.wire.dhcp.dhcp4 import Message


class Reservation(NamedTuple):
    """The planned address of one adapter."""

    hardware: bytes
    address: IPv4Address
    host_name: str


class BootFiles(NamedTuple):
    """The boot files for network clients: file names by firmware; with `http` UEFI gets an HTTP URL only."""

    bios: str | None = None
    uefi: str | None = None
    http: bool = False


class Scope(NamedTuple):
    """The configuration of one network."""

    subnet: IPv4Network
    server: IPv4Address
    router: IPv4Address | None
    name_servers: tuple[IPv4Address, ...]
    domain: str
    reservations: dict[bytes, Reservation]
    dynamic: tuple[IPv4Address, IPv4Address] | None = None
    lease_s: int = 3600
    mtu: int | None = None
    ntp: tuple[IPv4Address, ...] = ()
    routes: tuple[tuple[IPv4Network, IPv4Address], ...] = ()
    boot: BootFiles | None = None


class Lease(NamedTuple):
    """An address, its client, and the end of the lease; `state` is offered, bound, released, or declined."""

    address: IPv4Address
    client: bytes
    hardware: bytes
    until: float
    state: str
    host_name: str = ""


class Reply(NamedTuple):
    """Send a message to this address and port. `direct` means to the client's hardware address, because it cannot
    answer ARP yet (RFC 2131 section 4.1)."""

    message: Message
    address: IPv4Address
    port: int
    direct: bool


class Probe(NamedTuple):
    """Probe whether the address is in use, and call `Server.probed` with the result (RFC 2131 section 3.1, step 2)."""

    address: IPv4Address
    message: Message


class Keep(NamedTuple):
    """Store this lease durably before any reply is sent."""

    lease: Lease


class Wait(NamedTuple):
    """No action yet: the address to be offered is being probed."""


class Full(NamedTuple):
    """No address is available: the whole dynamic range is leased."""


Action = Reply | Probe | Keep | Wait | Full
