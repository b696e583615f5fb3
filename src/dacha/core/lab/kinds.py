"""The kinds of things in a lab, as types that the type checker compares: a misspelled kind is an error there."""

from __future__ import annotations

from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from typing import Literal

    from dacha.core.log.restarts import Restart

    Kind = Literal["nat", "host-only", "bridge"]
    Backend = Literal["auto", "user", "kernel"]
    WayOut = Literal["anywhere", "internet"]
    Accelerator = Literal["auto", "kvm", "tcg"]
    Firmware = Literal["bios", "uefi"]
    Clock = Literal["utc", "local"]
    Model = Literal["virtio", "e1000"]
    Source = Literal["disk", "medium", "network"]
    Origin = Literal["host", "lan", "outside"]
    Protocol = Literal["tcp", "udp"]
    HostProtocol = Literal["tcp", "udp", "all"]
    Service = Literal["ssh", "rdp", "vnc", "http", "https"]
    SharedBy = Literal["virtio-fs", "smb"]
    # What carries a door to a guest: host ports, the guest's own address on a bridge, or nothing.
    Means = Literal["forward", "own", "none"]
    # What a path to a guest leads through: the kernel's rules, QEMU's user mode, or the guest's own address.
    Way = Literal["kernel", "user", "own"]

KINDS: tuple[Kind, ...] = ("nat", "host-only", "bridge")
BACKENDS: tuple[Backend, ...] = ("auto", "user", "kernel")
# Destinations of a NAT network's way out: anywhere, or the internet without private addresses of the LAN.
WAYS_OUT: tuple[WayOut, ...] = ("anywhere", "internet")
ACCELERATORS: tuple[Accelerator, ...] = ("auto", "kvm", "tcg")
FIRMWARES: tuple[Firmware, ...] = ("bios", "uefi")
CLOCKS: tuple[Clock, ...] = ("utc", "local")
RESTARTS: tuple[Restart, ...] = ("never", "on-failure", "always")
MODELS: tuple[Model, ...] = ("virtio", "e1000")
BOOT_ORDER: tuple[Source, ...] = ("disk", "medium", "network")
# The places that a door can be entered from, nearest first: each includes those before it.
ORIGINS: tuple[Origin, ...] = ("host", "lan", "outside")
ORIGIN_WORDS: dict[Origin, str] = {"host": "this host", "lan": "the LAN", "outside": "outside"}
PROTOCOLS: tuple[Protocol, ...] = ("tcp", "udp")
SHARED_BY: tuple[SharedBy, ...] = ("virtio-fs", "smb")
# Services with their standard ports (IANA): a door with such a name needs neither service nor port.
SERVICES: dict[Service, int] = {"ssh": 22, "rdp": 3389, "vnc": 5900, "http": 80, "https": 443}
# Services whose traffic is not encrypted.
CLEAR: tuple[Service, ...] = ("http", "vnc")
