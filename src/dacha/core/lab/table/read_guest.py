"""The part of `lab.toml` that describes one guest: its machine, disks, adapters, login, doors."""

from __future__ import annotations

from collections.abc import Mapping
from ipaddress import IPv4Address, IPv6Address
from typing import TYPE_CHECKING

from dacha.core import units
from dacha.core.lab import address_fields, fields
from dacha.core.lab.buses import BUSES
from dacha.core.lab.kinds import (
    BOOT_ORDER,
    CLOCKS,
    FIRMWARES,
    MODELS,
    ORIGINS,
    RESTARTS,
    SHARED_BY,
)
from dacha.core.lab.model import NO_LIMITS, Adapter, Boot, Disk, Guest, Limits, Login, Screen, Share, Start
from dacha.core.lab.setup import NO_SETUP, Setup
from dacha.core.lab.table.profile import PLAIN, Profile, Profiles
from dacha.core.lab.table.read_door import read_door
from dacha.core.lab.table.reader import Table, checked_name
from dacha.core.lab.usb import Usb, from_text

if TYPE_CHECKING:
    from dacha.core.archive.schedule import Schedule
    from dacha.core.lab.kinds import Source

# The name that a guest mounts a shared folder by (virtio specification 1.2 section 5.11.4: 36 bytes).
SHARE_NAME_MOST = 36
_NO_ADDRESS: tuple[IPv4Address | None, int | None] = (None, None)
_NO_ADDRESS6: tuple[IPv6Address | None, int | None] = (None, None)


def read_guest(name: str, t: Table, profiles: Profiles, setups: Mapping[str, Setup] | None = None) -> Guest:
    """The guest described by the table `t`; errors become findings. `profiles` provide defaults, `setups` are the lab's
    named ones."""
    checked_name(t, name)
    system = t.take("system", fields.choice(*sorted(profiles)), "linux")
    usual = profiles.get(system, PLAIN)
    guest = Guest(
        name=name,
        system=system,
        cpus=t.take("cpus", fields.whole(1, 255), usual.cpus),
        memory=t.take("memory", units.memory, usual.memory),
        cpu=t.take("cpu", fields.text, None),
        machine_type=t.take("machine-type", fields.machine_type, None),
        clock=t.take("clock", fields.choice(*CLOCKS), usual.clock),
        video=t.take("video", fields.flag, usual.video),
        resolution=t.take("resolution", fields.resolution, usual.resolution),
        screen=_screen(t.table("screen")),
        firmware=t.take("firmware", fields.choice(*FIRMWARES), usual.firmware),
        secure_boot=t.take("secure-boot", fields.flag, usual.secure_boot),
        tpm=t.take("tpm", fields.flag, usual.tpm),
        boot_order=_boot_order(t),
        boot=_boot(t.table("boot")),
        install=t.take("install", fields.text, None),
        answers=t.take("answers", fields.flag, True),
        edition=t.take("edition", fields.text, None),
        product_key=t.take("product-key", fields.product_key, None),
        media=t.list_of("medium", fields.text),
        disks=_disks(t, usual),
        adapters=tuple(_adapter(a, usual) for a in t.list_of_tables("adapter")),
        login=_login(t.table("login")),
        first_boot=t.take("first-boot", fields.flag, True),
        setup=_setup(t.table("setup"), setups or {}),
        doors=tuple(read_door(name, n, d) for n, d in t.tables("door")),
        shares=tuple(_share(n, s, system) for n, s in t.tables("share")),
        start=_start(t.table("start")),
        restart=t.take("restart", fields.choice(*RESTARTS), "never"),
        stop_after_s=t.take("stop-after", units.duration, 60.0),
        limits=_limits(t.table("limits")),
        archive=_archive(t.table("archive")),
        usb=_usb(t),
    )
    t.finish()
    if guest.secure_boot and guest.firmware != "uefi":
        t.wrong("secure-boot", "value", "Secure Boot requires UEFI", 'add: firmware = "uefi"')
    if not guest.video:
        for key in ("resolution", "screen"):
            if key in t.data:
                t.wrong(key, "misplaced", "this guest has no display", "remove it, or video = true")
    return guest


def _setup(t: Table | None, setups: Mapping[str, Setup]) -> Setup:
    if t is None:
        return NO_SETUP
    from dacha.core.lab.table.read_setup import read_setup

    return read_setup(t, setups)


def _boot(t: Table | None) -> Boot | None:
    if t is None:
        return None
    kernel = t.need("kernel", fields.text, '"vmlinuz"')
    boot = Boot(
        kernel=kernel or "vmlinuz",
        initrd=t.take("initrd", fields.text, None),
        command_line=t.take("command-line", fields.text, ""),
    )
    t.finish()
    return boot


def _boot_order(t: Table) -> tuple[Source, ...]:
    order = t.list_of("boot-order", fields.choice(*BOOT_ORDER))
    if len(set(order)) < len(order):
        t.wrong("boot-order", "value", "it lists a value twice", 'such as: boot-order = ["disk", "medium", "network"]')
    if t.data.get("install") != "network":
        return order or ("disk", "medium")
    if order and "network" not in order:
        t.wrong("boot-order", "misplaced", "a network installation requires network boot", 'add "network" after "disk"')
    return order or ("disk", "network")


def _screen(t: Table | None) -> Screen | None:
    if t is None:
        return None
    origin = t.need("from", fields.choice(*ORIGINS[:2]), '"host"')
    port = t.need("port", fields.whole(1, 65535), "5901")
    t.finish()
    return Screen(origin or "host", port or 5900)


def _disks(t: Table, usual: Profile) -> tuple[Disk, ...]:
    disks: list[Disk] = []
    for n, table in enumerate(t.list_of_tables("disk")):
        disk = _disk(n, table, usual)
        if disk.name in {d.name for d in disks}:
            table.wrong("name", "twice", f"two disks are named {disk.name}", "choose a unique name for each disk")
        disks.append(disk)
    return tuple(disks)


def _disk(number: int, t: Table, usual: Profile) -> Disk:
    disk = Disk(
        name=t.take("name", fields.name, str(number)),
        base=t.take("from", fields.text, None),
        size=t.take("size", units.disk_size, None),
        bus=t.take("bus", fields.choice(*BUSES), usual.bus),
        full=t.take("allocation", fields.choice("thin", "full"), "thin") == "full",
        copy=t.take("copy", fields.flag, False),
        storage=t.take("storage", fields.text, None),
        passphrase=t.take("passphrase", fields.text, None),
    )
    t.finish()
    if t.ok and disk.base is None and disk.size is None:
        t.wrong(
            "", "missing", "a disk requires a size or an image to start from", 'add: size = "8 GiB" or from = "IMAGE"'
        )
    if disk.copy and disk.base is None:
        t.wrong("copy", "misplaced", 'allocation = "copy" requires an image', 'add: from = "IMAGE"')
    return disk


def _adapter(t: Table, usual: Profile) -> Adapter:
    address, prefix = t.take("address", address_fields.interface4_or_dynamic, _NO_ADDRESS)
    address6, prefix6 = t.take("address6", address_fields.interface6, _NO_ADDRESS6)
    adapter = Adapter(
        network=t.need("network", fields.text, '"inside"') or "",
        address=address,
        prefix=prefix,
        address6=address6,
        prefix6=prefix6,
        hardware_address=t.take("hardware-address", address_fields.hardware_address, None),
        model=t.take("model", fields.choice(*MODELS), usual.model),
        routes=t.take("routes", fields.flag, False),
        dynamic=t.data.get("address") == "dynamic",
    )
    t.finish()
    return adapter


def _login(t: Table | None) -> Login | None:
    if t is None:
        return None
    login = Login(
        user=t.need("user", fields.user, '"ops"') or "ops",
        keys=t.list_of("keys", fields.text),
        groups=t.list_of("groups", fields.user),
    )
    t.finish()
    return login


def _share(name: str, t: Table, system: str) -> Share:
    # This family has no built-in driver for virtio-fs, but supports SMB.
    windows = system == "windows"
    checked_name(t, name)
    if len(name) > SHARE_NAME_MOST:
        t.wrong("", "name", f"the name is longer than {SHARE_NAME_MOST} letters", "use a shorter one")
    share = Share(
        name=name,
        folder=t.need("folder", fields.text, '"tides"') or ".",
        at=t.need("at", fields.drive_letter if windows else fields.mount_point, '"T:"' if windows else '"/srv/tides"')
        or "/srv",
        read_only=t.take("read-only", fields.flag, False),
        owner=t.take("owner", fields.whole(0, 65533), 1000),
        anyway=t.take("anyway", fields.flag, False),
        by=t.take("by", fields.choice(*SHARED_BY), "smb" if windows else "virtio-fs"),
    )
    t.finish()
    return share


def _limits(t: Table | None) -> Limits:
    if t is None:
        return NO_LIMITS
    limits = Limits(
        memory=t.take("memory", units.size, None),
        processes=t.take("processes", fields.whole(16, 1_000_000), None),
        weight=t.take("weight", fields.whole(1, 10_000), 100),
    )
    t.finish()
    return limits


def _archive(t: Table | None) -> Schedule | None:
    if t is None:
        return None
    from dacha.core.lab.table.read_archive import read_archive

    return read_archive(t)


def _usb(t: Table) -> tuple[Usb, ...]:
    found = t.list_of("usb", lambda value: from_text(fields.text(value)))
    if len(set(found)) < len(found):
        t.wrong("usb", "twice", "a device is listed twice", 'tell equal ones apart: "DEVICE=SERIAL", or their ports')
    return found


def _start(t: Table | None) -> Start:
    if t is None:
        return Start()
    start = Start(
        at_boot=t.take("at-boot", fields.flag, False),
        order=t.take("order", fields.whole(0, 9999), 100),
        delay_s=t.take("delay", units.duration, 0.0),
        ready_s=t.take("ready-within", units.duration, 0.0),
        save=t.take("when-host-stops", fields.choice("stop", "save"), "stop") == "save",
    )
    t.finish()
    return start
