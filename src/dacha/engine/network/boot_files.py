"""Files for network boot: a folder in the lab file, and the first file in it."""

from __future__ import annotations

import os
import stat
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING

from dacha.core.findings import ERROR, WARNING, Finding
from dacha.core.lab.model import Guest
from dacha.core.lab.network import Network, NetworkBoot
from dacha.engine.workspace import Workspace

if TYPE_CHECKING:
    from dacha.wire.dhcp.dhcp4_lease import BootFiles

# The usual names of boot loaders, best first.
USUAL: dict[str, tuple[str, ...]] = {
    "bios": ("pxelinux.0", "lpxelinux.0", "boot/grub/i386-pc/core.0", "grub/i386-pc/core.0", "undionly.kpxe"),
    "uefi": ("bootx64.efi", "bootnetx64.efi", "debian-installer/amd64/bootnetx64.efi", "boot/grub/x86_64-efi/core.efi",
             "grub/x86_64-efi/core.efi", "shimx64.efi", "grubx64.efi", "snponly.efi"),
}  # fmt: skip


def first_files(ws: Workspace, network: Network) -> BootFiles | None:
    """The first file for each kind of firmware, from the lab file or by one of the usual names."""
    if network.boot is None:
        return None
    from dacha.wire.dhcp.dhcp4_lease import BootFiles

    folder = ws.resolve(network.boot.files)
    found = {}
    for firmware, said in (("bios", network.boot.bios), ("uefi", network.boot.uefi)):
        found[firmware] = said or next((n for n in USUAL[firmware] if beneath(folder, n)), None)
    return BootFiles(found["bios"], found["uefi"], network.boot.http)


def beneath(folder: Path, asked: str) -> Path | None:
    """The file in a folder for a request from the network; None if it does not exist, or a link leads out of the
    folder."""
    try:
        inside = Path(os.path.realpath(folder))
        path = Path(os.path.realpath(inside / asked.replace("\\", "/").lstrip("/")))
        return path if path.is_relative_to(inside) and stat.S_ISREG(path.stat().st_mode) else None
    except (OSError, ValueError):
        return None


def open_beneath(folder: Path, asked: str) -> tuple[int, int] | None:
    """That file, open for reading, and its size in bytes."""
    path = beneath(folder, asked)
    if path is None:
        return None
    try:
        fd = os.open(path, os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC)
    except OSError:
        return None
    about = os.fstat(fd)
    if not stat.S_ISREG(about.st_mode):
        os.close(fd)
        return None
    return fd, about.st_size


def user_boot(ws: Workspace, guest: Guest, network: Network) -> list[str] | None:
    """The folder and the first file for a guest that boots from a network carried by QEMU."""
    first = first_files(ws, network) if not network.by_kernel and "network" in guest.boot_order else None
    name = getattr(first, guest.firmware) if first else None
    # By its real path: links may lead through folders that the guest's process cannot enter.
    return [os.path.realpath(ws.resolve(network.boot.files)), name] if network.boot and name else None


def boot_findings(ws: Workspace) -> list[Finding]:
    """Missing folders and files of network boot, and guests whose firmware would find nothing."""
    return [f for net in ws.lab.networks.values() if net.boot for f in _findings(ws, net, net.boot)]


def _findings(ws: Workspace, net: Network, boot: NetworkBoot) -> Iterator[Finding]:
    folder, subject, here = ws.resolve(boot.files), f"network {net.name}", ("network", net.name, "boot")
    if not folder.is_dir():
        remedy = "set it to a folder with the boot files, relative to the lab file"
        what = f"boot: no folder {folder} exists"
        yield Finding(ERROR, "boot-folder", subject, what, remedy, (*here, "files"), "host")
        return
    for firmware, name in (("bios", boot.bios), ("uefi", boot.uefi)):
        if name and not beneath(folder, name):
            what = f"boot: no file {name} exists in {folder}"
            yield Finding(ERROR, "boot-first", subject, what, "use a file in that folder", (*here, firmware), "host")
    first = first_files(ws, net)
    starting = [
        g for g in ws.lab.guests.values() if "network" in g.boot_order and net.name in [a.network for a in g.adapters]
    ]
    for guest in starting:
        if not getattr(first, guest.firmware):
            what = f"starts from {net.name} by {guest.firmware.upper()}, but that network has no boot file for it"
            remedy = f'boot = {{ files = "{boot.files}", {guest.firmware} = "FILE" }} in [network.{net.name}]'
            path = ("guest", guest.name, "boot-order")
            yield Finding(WARNING, "boot-none", f"guest {guest.name}", what, remedy, path, "host")
    if starting and not net.by_kernel and os.geteuid() == 0 and (shut := _shut_to_others(folder)):
        what = f"boot: the guests' QEMU processes, which run as users of their own, cannot read {shut}"
        yield Finding(ERROR, "boot-shut", subject, what, f"chmod o+rX {shut}", (*here, "files"), "host")


def _shut_to_others(folder: Path) -> Path | None:
    """The first folder on the path to this one that other users cannot enter."""
    way = [*reversed(folder.resolve().parents), folder.resolve()]
    return next((p for p in way if not p.stat().st_mode & stat.S_IXOTH), None)
