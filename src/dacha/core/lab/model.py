"""The lab: the contents of one file as frozen values, already checked by `read`.

They are named tuples, always created with keywords: each saves two milliseconds per command compared with a frozen
dataclass.
"""

from __future__ import annotations

from collections.abc import Mapping
from ipaddress import IPv4Address, IPv4Network, IPv6Address, IPv6Network
from types import MappingProxyType
from typing import TYPE_CHECKING

from dacha.core.lab.client import Client
from dacha.core.lab.families import FAMILIES
from dacha.core.lab.network import Network, Place, Ports
from dacha.core.lab.person import Person
from dacha.core.lab.setup import NO_SETUP, Setup
from dacha.core.log.alert import Alert
from dacha.core.named import NamedTuple

if TYPE_CHECKING:
    from dacha.core.archive.schedule import Schedule
    from dacha.core.lab.kinds import (
        Accelerator,
        Clock,
        Firmware,
        Model,
        Origin,
        Protocol,
        Service,
        SharedBy,
        Source,
    )
    from dacha.core.lab.measuring import Measuring
    from dacha.core.lab.usb import Usb
    from dacha.core.log.restarts import Restart

SYSTEMS = tuple(FAMILIES)


class Disk(NamedTuple):
    """A disk of a guest: empty (`size`), a copy-on-write overlay on the image `base`, or with `copy` a full copy of it.

    `name` identifies its contents (default: its position in the list); `storage` is None for the state folder;
    `passphrase` is where that of an encrypted disk comes from: "ask", "credential:NAME", or a file.
    """

    name: str
    base: str | None = None
    size: int | None = None
    bus: str = "virtio"
    full: bool = False
    copy: bool = False
    storage: str | None = None
    passphrase: str | None = None


class Adapter(NamedTuple):
    """A guest's adapter on a network. `address` None: the plan chooses a free one, or with `dynamic` the network's DHCP
    server assigns one. One that `routes` may send from any address."""

    network: str
    address: IPv4Address | None = None
    prefix: int | None = None
    address6: IPv6Address | None = None
    prefix6: int | None = None
    hardware_address: str | None = None
    model: Model = "virtio"
    routes: bool = False
    dynamic: bool = False


class Boot(NamedTuple):
    """Direct kernel boot: files, and the kernel's command line."""

    kernel: str
    initrd: str | None = None
    command_line: str = ""


class Screen(NamedTuple):
    """Where a guest's display listens for VNC clients from its start on: "host" or "lan", and the port."""

    origin: Origin
    port: int


class Login(NamedTuple):
    """The login: a user, the files of the public keys that open it, and further groups of the user."""

    user: str
    keys: tuple[str, ...] = ()
    groups: tuple[str, ...] = ()


class Start(NamedTuple):
    """Automatic start: at the host's boot, in which order, after which delay (seconds). Guests with a higher order are
    started when its doors respond, at the latest after `ready_s` (0: they do not wait). With `save` it is saved to disk
    when this host shuts down, instead of stopped."""

    at_boot: bool = False
    order: int = 100
    delay_s: float = 0.0
    ready_s: float = 0.0
    save: bool = False


NOT_BY_ITSELF = Start()


class Limits(NamedTuple):
    """Limits of a guest's QEMU process, on hosts with cgroup v2: `memory` in bytes, including QEMU's own; `processes`
    including threads (None: derived from the guest); `weight` of its CPU time, where others have 100."""

    memory: int | None = None
    processes: int | None = None
    weight: int = 100


NO_LIMITS = Limits()


class Door(NamedTuple):
    """One service of one guest, reachable from outside it.

    `origin` is the key `from` of the file; `port` is the host's (None: the plan chooses), `to` the guest's,
    `outside_port` the router's (None: the same as the host's, or one that the router grants). Without
    `always` its server may be off: nothing waits for it. `places` are those where a door from the LAN is open, all if
    empty; `away` means that it is closed to the LAN at the present one. `client` are settings of its clients.
    """

    guest: str
    name: str
    service: Service | None
    protocol: Protocol
    origin: Origin
    to: Ports
    port: Ports | None = None
    listen: IPv4Address | IPv6Address | None = None
    allow: tuple[IPv4Network | IPv6Network, ...] = ()
    network: str | None = None
    outside_port: int | None = None
    always: bool = True
    places: tuple[str, ...] = ()
    away: bool = False
    client: Client = Client()

    @property
    def from_lan(self) -> bool:
        """True if the LAN may enter: also for a door from outside, as that path crosses the LAN."""
        return self.origin != "host"


# How a folder is shared: through a device of its own, or by SMB over the lab's network.
SHARED_BY = ("virtio-fs", "smb")


class Share(NamedTuple):
    """A folder of this host in a guest: `folder` here, mounted `at` there, owned by user ID `owner` there; shared `by`
    virtio-fs or SMB. `anyway` allows a folder that exposes sensitive parts of this host."""

    name: str
    folder: str
    at: str
    read_only: bool = False
    owner: int = 1000
    anyway: bool = False
    by: SharedBy = "virtio-fs"

    @property
    def by_smb(self) -> bool:
        return self.by == "smb"


class Guest(NamedTuple):
    """One virtual machine."""

    name: str
    memory: int
    system: str = "linux"
    cpus: int = 1
    cpu: str | None = None
    # None: that of its first start is kept; "newest": always QEMU's newest.
    machine_type: str | None = None
    clock: Clock = "utc"
    video: bool = True
    resolution: tuple[int, int] | None = None
    screen: Screen | None = None
    firmware: Firmware = "bios"
    secure_boot: bool = False
    tpm: bool = False
    boot_order: tuple[Source, ...] = ("disk", "medium")
    boot: Boot | None = None
    install: str | None = None
    answers: bool = True
    # Of Windows: which of the medium's editions is installed, and its key.
    edition: str | None = None
    product_key: str | None = None
    media: tuple[str, ...] = ()
    disks: tuple[Disk, ...] = ()
    adapters: tuple[Adapter, ...] = ()
    login: Login | None = None
    first_boot: bool = True
    setup: Setup = NO_SETUP
    doors: tuple[Door, ...] = ()
    shares: tuple[Share, ...] = ()
    start: Start = NOT_BY_ITSELF
    # Whether the caretaker starts it again when it has ended.
    restart: Restart = "never"
    stop_after_s: float = 60.0
    limits: Limits = NO_LIMITS
    # When it is saved to an archive by itself.
    archive: Schedule | None = None
    # Devices of this host that are its own while it runs.
    usb: tuple[Usb, ...] = ()

    @property
    def by_network(self) -> bool:
        """True if it is installed over its network, not from a medium."""
        return self.install == "network"


# A lab without people: only login users enter its guests.
NOBODY: Mapping[str, Person] = MappingProxyType({})
# A lab without places: its doors are the same everywhere.
NOWHERE: Mapping[str, Place] = MappingProxyType({})

# A lab without commands for events.
SILENT: Mapping[str, Alert] = MappingProxyType({})


class Lab(NamedTuple):
    """The contents of one lab file, in file order. `router` is the address of the router that forwards doors from
    outside: None for the default gateway, "none" for none. `people` may enter guests; `open_firewall` permits rules in
    this host's own firewall; `places` are those that this host may be at; `alerts` are
    commands for events, by event; `usage` is what the caretaker measures, if anything."""

    name: str
    networks: dict[str, Network]
    guests: dict[str, Guest]
    storages: dict[str, str]
    accelerator: Accelerator = "auto"
    router: str | None = None
    people: Mapping[str, Person] = NOBODY
    open_firewall: bool = False
    # Whether guests with doors from the LAN have names there.
    lan_names: bool = False
    places: Mapping[str, Place] = NOWHERE
    alerts: Mapping[str, Alert] = SILENT
    usage: Measuring | None = None

    @property
    def from_outside(self) -> bool:
        """True if a door is exposed to the internet."""
        return any(d.origin == "outside" for g in self.guests.values() for d in g.doors)

    @property
    def by_hand(self) -> bool:
        """True if Dacha sends no requests to a router: the user enters port mappings there."""
        return self.router == "none"

    @property
    def simulated(self) -> bool:
        """True if the router is on this host itself: the simulated one that ships with Dacha."""
        return self.router is not None and self.router.startswith("127.")

    def doors(self) -> list[Door]:
        """Every door of every guest, in file order."""
        return [door for guest in self.guests.values() for door in guest.doors]
