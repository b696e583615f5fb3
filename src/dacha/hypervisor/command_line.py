"""A machine as QEMU's command line. Pure: the same machine and files give the same arguments."""

from __future__ import annotations

import json
from collections.abc import Iterable
from pathlib import Path
from typing import Any, NamedTuple

from dacha.core.door_plan import Forward
from dacha.core.machine import Machine

# Sockets in the run folder. QEMU is started there and names them relatively, so the kernel's limit on socket
# paths never matters. Three monitors, because each serves one client: to change, to look, and to follow
# what happens.
QMP, WATCH, EVENTS = "qmp", "watch", "events"
SERIAL, AGENT, SCREEN = "serial", "agent", "screen"


_DISKS = {
    "virtio": "virtio-blk-pci",
    "sata": "ide-hd,bus=ide.{n}",
    "scsi": "scsi-hd,bus=scsi.0",
    "nvme": "nvme",
}


class Files(NamedTuple):
    """Where a guest's files are, as absolute paths; `firmware` is UEFI's code and the guest's own variables."""

    disks: tuple[Path, ...]
    seed: Path | None
    console: Path
    firmware: tuple[Path, Path] | None = None


def command_line(program: str, m: Machine, files: Files, forwards: Iterable[Forward]) -> list[str]:
    """The arguments, program first, for `core.machine.machine`'s value `m` with these host forwards open."""
    argv = [
        program,
        "-name",
        f"guest={m['guest']}.{m['lab']}",
        "-uuid",
        m["uuid"],
        "-machine",
        "q35,usb=off",
        *_accelerator(m),
        "-smp",
        str(m["cpus"]),
        "-m",
        f"{m['memory_mib']}M",
        "-rtc",
        "base=" + ("utc" if m["clock"] == "utc" else "localtime"),
        # Nothing that was not asked for: no default devices, no user's configuration file.
        "-nodefaults",
        "-no-user-config",
        "-sandbox",
        "on,obsolete=deny,elevateprivileges=deny,spawn=deny,resourcecontrol=deny",
        "-msg",
        "timestamp=on",
        *_monitor(QMP),
        *_monitor(WATCH),
        *_monitor(EVENTS),
        # The serial console is recorded from the first byte, attached or not.
        "-chardev",
        f"socket,id=serial,path={SERIAL},server=on,wait=off,logfile={_comma(files.console)},logappend=on",
        "-serial",
        "chardev:serial",
        "-device",
        "virtio-serial-pci",
        "-chardev",
        f"socket,id=agent,path={AGENT},server=on,wait=off",
        "-device",
        "virtserialport,chardev=agent,name=org.qemu.guest_agent.0",
        "-device",
        "virtio-rng-pci",
        "-display",
        "none",
    ]
    if m["video"]:
        argv += ["-device", "VGA", "-vnc", f"unix:{SCREEN},password=on"]
    if m["boot"]:
        argv += ["-kernel", m["boot"]["kernel"]]
        if m["boot"]["initrd"]:
            argv += ["-initrd", m["boot"]["initrd"]]
        if m["boot"]["command_line"]:
            argv += ["-append", m["boot"]["command_line"]]
    if files.firmware:
        for n, path in enumerate(files.firmware):
            argv += _blockdev(f"firmware{n}", "raw", path, read_only=n == 0)
        argv[argv.index("-machine") + 1] += ",pflash0=firmware0,pflash1=firmware1"
    if any(disk["bus"] == "scsi" for disk in m["disks"]):
        argv += ["-device", "virtio-scsi-pci,id=scsi"]
    for n, (disk, path) in enumerate(zip(m["disks"], files.disks, strict=True)):
        argv += _blockdev(f"disk{n}", "qcow2", path, read_only=False)
        # Disks come first: an empty one cannot be started from, so the firmware goes on to the medium, and after
        # an installation nobody has to change an order.
        argv += ["-device", f"{_DISKS[disk['bus']].format(n=n)},drive=disk{n},serial=disk{n},bootindex={n + 1}"]
    for n, medium in enumerate(m["drives"]):
        if medium:
            argv += _blockdev(f"medium{n}", "raw", Path(medium), read_only=True)
        inside = f",drive=medium{n}" if medium else ""
        # The disk ports of the board's controller are counted from the front, its drives from the back.
        argv += ["-device", f"ide-cd,bus=ide.{5 - n},id=drive{n}{inside},bootindex={100 + n}"]
    if files.seed:
        argv += _blockdev("seed", "raw", files.seed, read_only=True)
        argv += ["-device", "virtio-blk-pci,drive=seed,serial=seed"]
    for n, adapter in enumerate(m["adapters"]):
        mine = [f for f in forwards if str(f.address) == adapter["address"]]
        argv += ["-netdev", _user_network(f"net{n}", m, adapter, mine)]
        model = "virtio-net-pci" if adapter["model"] == "virtio" else adapter["model"]
        # No option ROM: the adapter is never booted from, and loading one costs start-up time.
        argv += ["-device", f"{model},netdev=net{n},id=adapter{n},mac={adapter['hardware_address']},romfile="]
    return argv


def _accelerator(m: Machine) -> list[str]:
    if m["accelerator"] == "kvm":
        return ["-accel", "kvm", "-cpu", m["cpu"] or "host"]
    return ["-accel", "tcg,thread=multi", "-cpu", m["cpu"] or "max"]


def _monitor(name: str) -> list[str]:
    return ["-chardev", f"socket,id={name},path={name},server=on,wait=off", "-mon", f"chardev={name},mode=control"]


def _comma(path: Path) -> str:
    """A path inside a comma-separated option: a comma in it is doubled (qemu(1))."""
    return str(path).replace(",", ",,")


def _blockdev(name: str, driver: str, path: Path, *, read_only: bool) -> list[str]:
    node: dict[str, Any] = {
        "driver": driver,
        "node-name": name,
        "read-only": read_only,
        "discard": "unmap",
        "file": {"driver": "file", "filename": str(path), "read-only": read_only, "discard": "unmap"},
    }
    return ["-blockdev", json.dumps(node)]


def _user_network(name: str, m: Machine, adapter: Machine, forwards: Iterable[Forward]) -> str:
    parts = [
        "user",
        f"id={name}",
        f"restrict={'on' if adapter['isolated'] else 'off'}",
        f"hostname={m['guest']}",
        f"domainname={m['lab']}.internal",
    ]
    if adapter["subnet"]:
        parts += [f"net={adapter['subnet']}", f"host={adapter['gateway']}", f"dns={adapter['resolver']}"]
        if adapter["address"]:
            # The private segment has one guest: begin the built-in DHCP at its planned address, so that a
            # guest which asks instead of being told gets the same one.
            parts.append(f"dhcpstart={adapter['address']}")
    if adapter["subnet6"]:
        net, _, prefix = adapter["subnet6"].partition("/")
        parts += [f"ipv6-prefix={net}", f"ipv6-prefixlen={prefix}", f"ipv6-host={adapter['gateway6']}"]
    else:
        parts.append("ipv6=off")
    parts += [f"hostfwd={hostfwd(f)}" for f in forwards]
    return ",".join(parts)


def hostfwd(forward: Forward) -> str:
    """A forward as QEMU writes it. The guest's address is always named: left out,
    QEMU guesses and may miss silently."""
    return f"{forward.protocol}:{forward.listen}:{forward.port}-{forward.address}:{forward.to}"
