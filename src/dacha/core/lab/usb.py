"""USB devices of this host that a guest gets: named by what they are, or by the port that they are plugged into."""

from __future__ import annotations

import re
from collections.abc import Iterable
from typing import TYPE_CHECKING

from dacha.core.errors import BadValue
from dacha.core.named import NamedTuple
from dacha.core.sha256 import sha256

if TYPE_CHECKING:
    from typing import Literal

    UseKind = Literal["mounted", "swap", "part-of", "network", "keyboard"]

_DEVICE = re.compile(r"([0-9a-f]{4}):([0-9a-f]{4})\Z")
# As the kernel names it: the bus, the port of its root hub, and that of each hub on the way.
_PORT = re.compile(r"[1-9][0-9]*-[1-9][0-9]*(?:\.[1-9][0-9]*)*\Z")
SERIAL_MOST = 126  # characters of a string descriptor (USB 2.0 section 9.6.7)


class Usb(NamedTuple):
    """A USB device in the lab file: its vendor and product as "1209:2303", with its serial number if that matters; or
    the port that it is plugged into ("1-4.2"), whatever is there."""

    device: str | None = None
    serial: str | None = None
    port: str | None = None

    def __str__(self) -> str:
        return f"port {self.port}" if self.port else self.written

    @property
    def written(self) -> str:
        """As the lab file has it."""
        return self.port or (f"{self.device}={self.serial}" if self.serial else str(self.device))

    @property
    def identifier(self) -> str:
        """Its name in QEMU, of letters, digits, hyphens and dots."""
        if self.port:
            return f"usb-port-{self.port}"
        name = f"usb-{(self.device or '').replace(':', '-')}"
        if not self.serial:
            return name
        return f"{name}-{sha256(self.serial.encode()).hexdigest()[:12]}"


class HostUse(NamedTuple):
    """What this host itself uses a device for: `part` is the disk, partition or adapter that the kernel made of it,
    `where` the mount point, or what a disk belongs to."""

    kind: UseKind
    part: str = ""
    where: str = ""

    def __str__(self) -> str:
        return _USES[self.kind][0].format(*self[1:])

    @property
    def remedy(self) -> str:
        """What lets this host release it."""
        import shlex  # not for every quick command

        return _USES[self.kind][1].format(self.part, shlex.quote(self.where))


_USES: dict[UseKind, tuple[str, str]] = {
    "mounted": ("{0} is mounted at {1}", "umount {1}"),
    "swap": ("{0} is swap space", "swapoff /dev/{0}"),
    "part-of": ("{0} belongs to {1}", "take {0} out of {1}, or use another device"),
    "network": ("its network adapter {0} is up", "ip link set {0} down"),
    "keyboard": ("it is the only keyboard of this host", "connect another keyboard to this host"),
}


class HostDevice(NamedTuple):
    """A USB device of this host: its bus and its number there, which change whenever it is plugged in; its port; vendor
    and product as four hexadecimal digits each; its own name; and what this host itself uses it for."""

    bus: int
    number: int
    port: str
    device: str
    serial: str = ""
    name: str = ""
    hub: bool = False
    used: tuple[HostUse, ...] = ()

    @property
    def node(self) -> str:
        """Its file (/dev/bus/usb/BUS/NUMBER)."""
        return f"/dev/bus/usb/{self.bus:03}/{self.number:03}"


def device(value: object) -> str:
    """A vendor and product. Raises BadValue."""
    text = value.lower().removeprefix("0x").replace(":0x", ":") if isinstance(value, str) else ""
    if not _DEVICE.match(text):
        remedy = 'write both as four hexadecimal digits each, such as "1209:2303": dacha host lists the devices'
        raise BadValue(f"{value!r} is not a vendor and product of USB", remedy)
    return text


def serial(value: object) -> str:
    """A serial number. Raises BadValue."""
    if not isinstance(value, str) or not value or len(value) > SERIAL_MOST or not value.isprintable():
        raise BadValue(f"{value!r} is not a serial number", "write it in quotes, as dacha host shows it")
    return value


def from_text(text: str) -> Usb:
    """What a person types: "1209:2303", "1209:2303=SERIAL", "1-4.2" (with or without "port " before it). Raises
    BadValue."""
    words = text.removeprefix("port ").strip()
    if _PORT.match(words):
        return Usb(port=words)
    named, equal, own = words.partition("=")
    return Usb(device=device(named), serial=serial(own) if equal else None)


def fits(wanted: Usb, found: HostDevice) -> bool:
    """True if a device of this host is the one that the lab file names. A hub never is: it is a part of this host."""
    if found.hub:
        return False
    if wanted.port:
        return wanted.port == found.port
    return wanted.device == found.device and wanted.serial in (None, found.serial)


def matched(wanted: Iterable[Usb], found: Iterable[HostDevice]) -> dict[Usb, list[HostDevice]]:
    """The devices of this host that fit each entry, in the order of their ports; those that a serial number or a port
    names go to no other entry."""
    devices, entries = sorted(found, key=lambda d: (d.bus, d.port)), list(wanted)
    exact = {d for d in devices for w in entries if (w.port or w.serial) and fits(w, d)}
    return {w: [d for d in devices if fits(w, d) and (w.port or w.serial or d not in exact)] for w in entries}
