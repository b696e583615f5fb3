"""QEMU's command line for a machine. Pure: the same machine and files give the same arguments."""

from __future__ import annotations

import json
from collections.abc import Iterable, Mapping
from types import MappingProxyType
from typing import Any

from dacha.core.apply.machine import Machine, MachineDisk
from dacha.core.lab.buses import BUSES
from dacha.core.lab.names import disk_serial
from dacha.core.named import NamedTuple
from dacha.core.plan.doors import Forward
from dacha.hypervisor.images.layers import Layer
from dacha.hypervisor.user_mode import comma, user_network

# Sockets in the run folder. QEMU is started there and uses relative names, because the kernel limits socket paths.
# Three monitors, because each serves one client: for changes, for queries, and for events.
QMP, WATCH, EVENTS = "qmp", "watch", "events"
SERIAL, AGENT, SCREEN, TPM = "serial", "agent", "screen", "tpm"
# What QEMU records in its log, with times: `core/log/ends.py` reads it (trace events of QEMU, log backend).
TRACED = ("runstate_set", "qemu_system_shutdown_request", "qemu_system_powerdown_request")
# Spare hot-plug ports of a guest with disks: that many more can be attached while it runs.
SPARE_PORTS = 3
USB_CONTROLLER = "qemu-xhci,id=usb"


class Files(NamedTuple):
    """The names by which QEMU opens a guest's files: each disk with its backing images, the media in its drives,
    UEFI's code and the guest's own variables, a kernel and its initrd. `taps` are open descriptors, by the
    adapter's number."""

    disks: tuple[tuple[Layer, ...], ...]
    seed: str | None
    console: str
    drives: tuple[str | None, ...] = ()
    firmware: tuple[str, str] | None = None
    boot: tuple[str, str | None] | None = None
    taps: Mapping[int, int] = MappingProxyType({})


def share_socket(name: str) -> str:
    """The socket of a shared folder's daemon."""
    return f"share-{name}"


def command_line(program: str, m: Machine, files: Files, forwards: Iterable[Forward]) -> list[str]:
    """The arguments, program first, for the machine `m` (`core.machine.machine`) with these host forwards open."""
    argv = [
        program,
        "-name",
        f"guest={m['guest']}.{m['lab']}",
        "-uuid",
        m["uuid"],
        "-machine",
        f"{m.get('machine_type') or 'q35'},usb=off,dump-guest-core=off",
        *_accelerator(m),
        "-smp",
        str(m["cpus"]),
        "-m",
        f"{m['memory_mib']}M",
        "-rtc",
        "base=" + ("utc" if m["clock"] == "utc" else "localtime"),
        # Nothing implicit: no default devices, no user's configuration file.
        "-nodefaults",
        "-no-user-config",
        "-sandbox",
        "on,obsolete=deny,elevateprivileges=deny,spawn=deny,resourcecontrol=deny",
        "-msg",
        "timestamp=on",
        # Its run states, and why it shuts down: the log can tell how it ended.
        *(word for event in TRACED for word in ("-trace", f"enable={event}")),
        *_monitor(QMP),
        *_monitor(WATCH),
        *_monitor(EVENTS),
        # The serial console is recorded from the first byte, attached or not.
        "-chardev",
        f"socket,id=serial,path={SERIAL},server=on,wait=off,logfile={comma(files.console)},logappend=on",
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
    argv += _display(m)
    argv += _kernel(m, files)
    argv += _firmware(m, files, argv)
    argv += _disks(m, files)
    argv += _drives(m, files)
    if files.seed:
        argv += _blockdev("seed", "raw", files.seed, read_only=True)
        argv += ["-device", "virtio-blk-pci,drive=seed,serial=seed"]
    argv += _adapters(m, files, list(forwards))
    argv += _shares(m, argv)
    # Devices are attached while it runs (`live/usb.py`).
    argv += ["-device", USB_CONTROLLER] if m.get("usb") else []
    return argv


def _display(m: Machine) -> list[str]:
    """Its display, and its TPM."""
    argv: list[str] = []
    if m["video"]:
        size = "VGA" + (",xres={},yres={}".format(*m["resolution"]) if m["resolution"] else "")
        argv += ["-device", size, "-vnc", f"unix:{SCREEN},password=on"]
    if m["tpm"]:
        argv += ["-chardev", f"socket,id=tpm,path={TPM}", "-tpmdev", "emulator,id=tpm0,chardev=tpm"]
        argv += ["-device", "tpm-crb,tpmdev=tpm0"]
    return argv


def _kernel(m: Machine, files: Files) -> list[str]:
    """A kernel that is booted directly, if it has one."""
    argv: list[str] = []
    if m["boot"]:
        kernel, initrd = files.boot or (m["boot"]["kernel"], m["boot"]["initrd"])
        argv += ["-kernel", kernel]
        if initrd:
            argv += ["-initrd", initrd]
        if m["boot"]["command_line"]:
            argv += ["-append", m["boot"]["command_line"]]
        if m["boot"].get("once"):
            # A restart would boot this kernel again.
            argv += ["-action", "reboot=shutdown"]
    return argv


def _firmware(m: Machine, files: Files, base: list[str]) -> list[str]:
    """UEFI, with its variables; the board in `base` refers to it."""
    argv: list[str] = []
    if files.firmware:
        for n, path in enumerate(files.firmware):
            argv += _blockdev(f"firmware{n}", "raw", path, read_only=n == 0)
        base[base.index("-machine") + 1] += ",pflash0=firmware0,pflash1=firmware1"
        for version in {4, 6} - set(m["pxe"]):
            argv += ["-fw_cfg", f"name=opt/org.tianocore/IPv{version}PXESupport,string=n"]
    if m["secure_boot"]:
        # The firmware protects its variables from the guest's system with system management mode.
        base[base.index("-machine") + 1] += ",smm=on"
        argv += ["-global", "driver=cfi.pflash01,property=secure,value=on", "-global", "ICH9-LPC.disable_s3=1"]
    return argv


def _shares(m: Machine, base: list[str]) -> list[str]:
    """Its shared folders; their daemons access the guest's memory, which is shared with them only."""
    argv: list[str] = []
    if m["shares"]:
        base[base.index("-machine") + 1] += ",memory-backend=memory"
        argv += ["-object", f"memory-backend-memfd,id=memory,size={m['memory_mib']}M,share=on"]
    for share in m["shares"]:
        name = share["name"]
        argv += ["-chardev", f"socket,id=share-{name},path={share_socket(name)}"]
        argv += ["-device", f"vhost-user-fs-pci,chardev=share-{name},tag={name}"]
    return argv


def _adapters(m: Machine, files: Files, forwards: list[Forward]) -> list[str]:
    """Its adapters, each with its network backend."""
    argv: list[str] = []
    for n, adapter in enumerate(m["adapters"]):
        mine = [f for f in forwards if str(f.address) == adapter["address"]]
        if adapter["tap"]:
            argv += ["-netdev", f"tap,id=net{n},fd={files.taps.get(n, -1)}"]
        else:
            argv += ["-netdev", user_network(f"net{n}", m, adapter, mine)]
        model = "virtio-net-pci" if adapter["model"] == "virtio" else adapter["model"]
        # Without network boot, no option ROM: loading one costs start-up time. It does PXE, and provides drivers that
        # the firmware lacks.
        rom = _boot_index(m, "network", n)
        if not rom or (not m["pxe"] and adapter["model"] == "virtio"):
            rom += ",romfile="
        argv += ["-device", f"{model},netdev=net{n},id=adapter{n},mac={adapter['hardware_address']}{rom}"]
    return argv


def _boot_index(m: Machine, kind: str, n: int) -> str:
    """The boot index of the n-th device of a kind; empty for a kind that is not booted from. Disks come first unless
    the lab says otherwise: an empty one is not bootable, so the firmware continues with the medium, and after an
    installation the order need not be changed."""
    return f",bootindex={m['boot_order'].index(kind) * 100 + n + 1}" if kind in m["boot_order"] else ""


def _disks(m: Machine, files: Files) -> list[str]:
    argv: list[str] = []
    for controller in dict.fromkeys(BUSES[disk["bus"]].controller for disk in m["disks"]):
        argv += ["-device", controller] if controller else []
    # Each port costs the firmware time at every start: a guest without a disk has one, for its first.
    for n in range(SPARE_PORTS if m["disks"] else 1):
        argv += ["-device", f"pcie-root-port,id=spare{n},chassis={n + 1},slot={n + 1}"]
    for n, (disk, layers) in enumerate(zip(m["disks"], files.disks, strict=True)):
        place = BUSES[disk["bus"]].place.format(n=n)
        where = f",bus={place}" if place else ""
        if n and not where:
            # Behind a port of its own, so that it can be detached while the guest runs.
            argv += ["-device", f"pcie-root-port,id=port{n},chassis={n + 100},slot={n + 100}"]
            where = f",bus=port{n}"
        argv += ["-blockdev", json.dumps(disk_node(disk["name"], layers))]
        argv += ["-device", f"{disk_device(disk)}{where}{_boot_index(m, 'disk', n)}"]
    return argv


def disk_device(disk: MachineDisk) -> str:
    """A disk's device without its place: the disk's name is in its identifier, and in the serial number that the guest
    sees."""
    name = disk["name"]
    return f"{BUSES[disk['bus']].device},drive=disk-{name},id=disk-{name}-device,serial={disk_serial(name)}"


def disk_node(name: str, layers: tuple[Layer, ...]) -> dict[str, Any]:
    """A disk's block node with those of its backing images, in the form that QMP also accepts."""
    below: dict[str, Any] | None = None
    for layer in reversed(layers[1:]):
        under = {"backing": below} if layer.format == "qcow2" else {}
        below = {"driver": layer.format, "read-only": True, "file": _file(layer.file, read_only=True), **under}
    node = _node(f"disk-{name}", layers[0].format, layers[0].file, read_only=False) | {"backing": below}
    if layers[0].secret:
        node["encrypt"] = {"format": "luks", "key-secret": layers[0].secret}
    return node


def _drives(m: Machine, files: Files) -> list[str]:
    argv: list[str] = []
    scsi = any(disk["bus"] == "scsi" for disk in m["disks"])
    for n, medium in enumerate(files.drives or m["drives"]):
        if medium:
            argv += _blockdev(f"medium{n}", "raw", medium, read_only=True)
        inside = f",drive=medium{n}" if medium else ""
        # A guest with SCSI disks has the driver; else the board's own controller, which every system supports. Disks
        # count from the first unit, drives from the last (UEFI examines no SCSI unit above 31).
        device = f"scsi-cd,bus=scsi.0,scsi-id={31 - n}" if scsi else f"ide-cd,bus=ide.{5 - n}"
        argv += ["-device", f"{device},id=drive{n}{inside}{_boot_index(m, 'medium', n)}"]
    return argv


def _accelerator(m: Machine) -> list[str]:
    if m["accelerator"] == "kvm":
        return ["-accel", "kvm", "-cpu", m["cpu"] or "host"]
    return ["-accel", "tcg,thread=multi", "-cpu", m["cpu"] or "max"]


def _monitor(name: str) -> list[str]:
    return ["-chardev", f"socket,id={name},path={name},server=on,wait=off", "-mon", f"chardev={name},mode=control"]


def _blockdev(name: str, driver: str, file: str, *, read_only: bool) -> list[str]:
    return ["-blockdev", json.dumps(_node(name, driver, file, read_only=read_only))]


def _file(file: str, *, read_only: bool) -> dict[str, Any]:
    return {"driver": "file", "filename": file, "read-only": read_only, "discard": "unmap"}


def _node(name: str, driver: str, file: str, *, read_only: bool) -> dict[str, Any]:
    return {
        "driver": driver,
        "node-name": name,
        "read-only": read_only,
        "discard": "unmap",
        "file": _file(file, read_only=read_only),
    }
