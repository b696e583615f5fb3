"""What the DHCP server knows and asks for, as plain values: its network, leases, and the actions that it gives back."""

from __future__ import annotations

from ipaddress import IPv4Address, IPv4Network

from dacha.core.named import NamedTuple
from dacha.wire.dhcp.dhcp4 import Message


class Reservation(NamedTuple):
    """What the lab plans for one adapter."""

    hardware: bytes
    address: IPv4Address
    host_name: str


class BootFiles(NamedTuple):
    """What a client that starts from the network is told: its first file's name, by the kind of its firmware; with
    `http` UEFI is told it for HTTP alone."""

    bios: str | None = None
    uefi: str | None = None
    http: bool = False


class Scope(NamedTuple):
    """One network as its server has to know it."""

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
    """An address and who has it until when; `state` is offered, bound, released, or declined."""

    address: IPv4Address
    client: bytes
    hardware: bytes
    until: float
    state: str
    host_name: str = ""


class Reply(NamedTuple):
    """Send a message: to this address and port. `direct` means to the client's hardware address, because it cannot
    yet answer when asked who has its address (RFC 2131 section 4.1)."""

    message: Message
    address: IPv4Address
    port: int
    direct: bool


class Probe(NamedTuple):
    """Ask whether somebody has this address, and tell `Server.probed` (RFC 2131 section 3.1, step 2)."""

    address: IPv4Address
    message: Message


class Keep(NamedTuple):
    """Note this lease where a killed process finds it again, before any reply is sent."""

    lease: Lease


class Wait(NamedTuple):
    """Nothing is to be done yet: the address that the client will be offered is being probed."""


class Full(NamedTuple):
    """Nobody can be given an address: every one of the dynamic range is leased."""


Action = Reply | Probe | Keep | Wait | Full
