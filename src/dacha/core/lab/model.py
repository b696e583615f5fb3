"""The lab: what one file describes, as frozen values. Everything here is already checked by `read`.

They are named tuples, always made by keyword: each saves two milliseconds at every command over a frozen dataclass.
"""

from __future__ import annotations

from collections.abc import Mapping
from ipaddress import IPv4Address, IPv4Network, IPv6Address, IPv6Network
from types import MappingProxyType

from dacha.core.lab.network import Network, Ports
from dacha.core.lab.person import Person
from dacha.core.lab.setup import NO_SETUP, Setup
from dacha.core.named import NamedTuple

KINDS = ("nat", "host-only", "bridge")
BACKENDS = ("auto", "user", "kernel")
ACCELERATORS = ("auto", "kvm", "tcg")
FIRMWARES = ("bios", "uefi")
BOOT_ORDER = ("disk", "medium", "network")
MODELS = ("virtio", "e1000")
# Who may enter a door, nearest first: each place includes those before it.
ORIGINS = ("host", "lan", "outside")
ORIGIN_WORDS = {"host": "this host", "lan": "the LAN", "outside": "outside"}
PROTOCOLS = ("tcp", "udp")
SYSTEMS = ("alpine", "bsd", "debian", "fedora", "linux", "other", "ubuntu", "windows")

# What a door may be called for: the name says port and protocol (IANA service names and ports).
SERVICES = {"ssh": 22, "rdp": 3389, "vnc": 5900, "http": 80, "https": 443}
# Those of them that everybody on the way can read.
CLEAR = ("http", "vnc")


# How far a NAT network's way out leads: anywhere, or to the internet without the private machines of the LAN.
WAYS_OUT = ("anywhere", "internet")


class Disk(NamedTuple):
    """A disk of a guest: empty (`size`), a copy-on-write overlay on the image `base`, or with `copy` a copy of it.

    `name` is what it keeps its contents by (the place in the list, unless given); `storage` is None for the state
    folder.
    """

    name: str
    base: str | None = None
    size: int | None = None
    bus: str = "virtio"
    full: bool = False
    copy: bool = False
    storage: str | None = None


class Adapter(NamedTuple):
    """A guest's adapter on a network. `address` None asks the plan for a free one, or with `dynamic` leaves it to
    whoever serves the network. One that `routes` may send from any address."""

    network: str
    address: IPv4Address | None = None
    prefix: int | None = None
    address6: IPv6Address | None = None
    prefix6: int | None = None
    hardware_address: str | None = None
    model: str = "virtio"
    routes: bool = False
    dynamic: bool = False


class Boot(NamedTuple):
    """Direct kernel boot: files, and the kernel's command line."""

    kernel: str
    initrd: str | None = None
    command_line: str = ""


class Screen(NamedTuple):
    """Where a guest's display listens for VNC clients from its start on: "host" or "lan", and the port."""

    origin: str
    port: int


class Login(NamedTuple):
    """Who may log in: a user and the files of the public keys that open it."""

    user: str
    keys: tuple[str, ...] = ()


class Start(NamedTuple):
    """When a guest starts by itself: at the host's boot, in which order, after which delay (seconds)."""

    at_boot: bool = False
    order: int = 100
    delay_s: float = 0.0


NOT_BY_ITSELF = Start()


class Limits(NamedTuple):
    """What a guest's process may take of this host, where it has cgroup v2: `memory` in bytes with what QEMU itself
    needs, `processes` with threads (None: what follows from the guest), `weight` of its processor time, others' is 100.
    """

    memory: int | None = None
    processes: int | None = None
    weight: int = 100


NO_LIMITS = Limits()


class Door(NamedTuple):
    """One service of one guest that can be entered from outside it.

    `origin` is the file's `from`; `port` is the host's (None: the plan chooses), `to` the guest's, `outside_port` the
    router's (None: the same as the host's, or another that the router grants).
    """

    guest: str
    name: str
    service: str | None
    protocol: str
    origin: str
    to: Ports
    port: Ports | None = None
    listen: IPv4Address | IPv6Address | None = None
    allow: tuple[IPv4Network | IPv6Network, ...] = ()
    network: str | None = None
    outside_port: int | None = None

    @property
    def from_lan(self) -> bool:
        """True for a door that the LAN may enter: one from outside too, as that leads over the LAN."""
        return self.origin != "host"


# How a folder comes into a guest: by a device of its own, or by SMB over the lab's network.
SHARED_BY = ("virtio-fs", "smb")


class Share(NamedTuple):
    """A folder of this host in a guest: `folder` here, mounted `at` there, where it is the user's with the number
    `owner`. It goes there `by` virtio-fs, or by SMB over the lab's own network. With `anyway` one that gives much of
    this host away."""

    name: str
    folder: str
    at: str
    read_only: bool = False
    owner: int = 1000
    anyway: bool = False
    by: str = "virtio-fs"

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
    clock: str = "utc"
    video: bool = True
    resolution: tuple[int, int] | None = None
    screen: Screen | None = None
    firmware: str = "bios"
    secure_boot: bool = False
    tpm: bool = False
    boot_order: tuple[str, ...] = ("disk", "medium")
    boot: Boot | None = None
    install: str | None = None
    answers: bool = True
    media: tuple[str, ...] = ()
    disks: tuple[Disk, ...] = ()
    adapters: tuple[Adapter, ...] = ()
    login: Login | None = None
    first_boot: bool = True
    setup: Setup = NO_SETUP
    doors: tuple[Door, ...] = ()
    shares: tuple[Share, ...] = ()
    start: Start = NOT_BY_ITSELF
    stop_after_s: float = 60.0
    limits: Limits = NO_LIMITS

    @property
    def by_network(self) -> bool:
        """True when it is installed over its network, and not from a medium."""
        return self.install == "network"


# A lab whose guests are entered by nobody but who logs in.
NOBODY: Mapping[str, Person] = MappingProxyType({})


class Lab(NamedTuple):
    """All that one file describes, in file order. `router` is the address of the one that is asked for the way from
    outside: None for the default gateway, "none" for nobody. `people` are who may enter guests; `open_firewall` is
    consent to let the lab's ways pass this host's own firewall."""

    name: str
    networks: dict[str, Network]
    guests: dict[str, Guest]
    storages: dict[str, str]
    accelerator: str = "auto"
    router: str | None = None
    people: Mapping[str, Person] = NOBODY
    open_firewall: bool = False

    @property
    def from_outside(self) -> bool:
        """True when a door is entered from outside."""
        return any(d.origin == "outside" for g in self.guests.values() for d in g.doors)

    @property
    def by_hand(self) -> bool:
        """True when no router is to be asked: what it should lead in is entered in it by hand."""
        return self.router == "none"

    @property
    def simulated(self) -> bool:
        """True when the router that is asked is this host itself: the one that ships with Dacha, to try things out."""
        return self.router is not None and self.router.startswith("127.")

    def doors(self) -> list[Door]:
        """Every door of every guest, in file order."""
        return [door for guest in self.guests.values() for door in guest.doors]
