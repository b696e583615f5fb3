"""One guest against this host: missing files, and values that its system does not support."""

from __future__ import annotations

import os
from collections.abc import Iterator
from typing import TYPE_CHECKING

from dacha.core.apply.observed import SAVED, ObservedGuest
from dacha.core.errors import BadValue, HostError
from dacha.core.findings import ERROR, NOTE, WARNING, Finding, Path
from dacha.core.lab.buses import BUSES
from dacha.core.lab.model import Disk, Guest
from dacha.core.people.keys_inside import key_of
from dacha.core.spelling import did_you_mean
from dacha.core.units import exact_size, show_size
from dacha.engine.check.memory import memory_findings
from dacha.engine.check.setup import name_findings
from dacha.engine.check.startable import nothing_to_start
from dacha.engine.disks import kept_disks
from dacha.engine.guest.keys import key_line
from dacha.engine.guest.machine_type import type_findings
from dacha.engine.guest.passwords import hashes, needs_plain
from dacha.engine.guest.setup_facts import setup_troubles
from dacha.engine.media.media import base_image
from dacha.engine.workspace import Workspace

if TYPE_CHECKING:
    import mmap
    import pathlib

# Network boot code for BIOS, by its paths in distributions; UEFI has its own.
BOOT_ROMS = ("/usr/lib/ipxe/qemu/efi-virtio.rom", "/usr/share/qemu/efi-virtio.rom")


def file_findings(ws: Workspace, guest: Guest, seen: ObservedGuest) -> list[Finding]:
    """Missing or invalid images, kernels and key files of one guest."""
    found = [*_disk_findings(ws, guest, seen), *kept_disks.findings(ws, guest), *minimum_findings(guest)]
    if nothing := nothing_to_start(ws, guest):
        about, at = f"guest {guest.name}", ("guest", guest.name)
        found.append(Finding(WARNING, "nothing-to-start", about, nothing.what, nothing.remedy, at, "host"))
    if seen.state == SAVED:
        from dacha.engine.power import saved

        found += saved.findings(ws, guest.name)
    if guest.boot and not seen.running:
        found += [*_driver_findings(ws, guest), *memory_findings(ws, guest)]
    for key, written in (("kernel", guest.boot.kernel), ("initrd", guest.boot.initrd)) if guest.boot else ():
        if written and not os.access(ws.resolve(written), os.R_OK):
            what = f"no readable file for {key}: {ws.resolve(written)}"
            error = BadValue(what, "give its path relative to the lab file, or its absolute path")
            found.append(_wrong(guest, "boot-file", ("boot", key), error))
    for key, written in [("install", guest.install), *(("medium", m) for m in guest.media)]:
        if written and not (key == "install" and guest.by_network):
            found += _medium_findings(ws, guest, key, written)
    found += [*_part_findings(guest), *type_findings(ws, guest)]
    found += _answer_findings(ws, guest)
    if _wants_desktop(guest) and guest.system != "windows" and not hashes(ws.home, guest.name):
        what, remedy = "it has a remote desktop door, but no user has a password", f"dacha guest password {guest.name}"
        found.append(Finding(NOTE, "no-password", f"guest {guest.name}", what, remedy, ("guest", guest.name), "host"))
    found += setup_findings(ws, guest)
    found += name_findings(guest)
    for n, written in enumerate(guest.login.keys if guest.login else ()):
        try:
            key_line(ws, written)
        except BadValue as e:
            found.append(_wrong(guest, "key-file", ("login", "keys", n), e))
    return found


def setup_findings(ws: Workspace, guest: Guest) -> list[Finding]:
    """Files and keys of one guest's setup that are not readable."""
    return [_wrong(guest, code, at, error) for code, at, error in setup_troubles(ws, guest)]


def people_findings(ws: Workspace) -> list[Finding]:
    """Keys of people that are not readable, invalid, or used by two people."""
    found, owner = [], dict[tuple[str, ...], str]()
    for person in ws.lab.people.values():
        for n, written in enumerate(person.keys):
            path: Path = ("person", person.name, "keys", n)
            about = f"person {person.name}"
            try:
                key = key_of(key_line(ws, written))
            except BadValue as e:
                found.append(Finding(ERROR, "key-file", about, e.what, e.remedy, path, "host"))
                continue
            other = owner.setdefault(key, person.name)
            if other != person.name:
                what = f"{other} has the same key: it stays in a guest as long as either of them has access"
                remedy = f"add a separate key for {person.name}: dacha person edit {person.name} --key FILE"
                found.append(Finding(WARNING, "key-shared", about, what, remedy, path, "host"))
    return found


def _wants_desktop(guest: Guest) -> bool:
    return bool(guest.setup.remote_desktop) or any(d.service == "rdp" for d in guest.doors)


def _wrong(guest: Guest, code: str, path: Path, error: HostError | BadValue) -> Finding:
    """The finding for an error that was raised."""
    why = f": {error.why}" if isinstance(error, HostError) and error.why else ""
    return Finding(
        ERROR, code, f"guest {guest.name}", error.what + why, error.remedy, ("guest", guest.name, *path), "host"
    )


def _disk_findings(ws: Workspace, guest: Guest, seen: ObservedGuest) -> Iterator[Finding]:
    """Disks that cannot be created, or would have to shrink."""
    made = dict(seen.disks)
    for n, disk in enumerate(guest.disks):
        size = made.get(disk.name)
        if disk.passphrase:
            from dacha.engine.disks.disks import passphrase_trouble

            if secret := passphrase_trouble(ws, guest.name, disk):
                yield _wrong(guest, "passphrase", ("disk", n, "passphrase"), secret)
        if size is None:
            for key, error in _new_disk_troubles(ws, disk):
                code = {"from": "image", "size": "disk-small"}.get(key, "storage-gone")
                yield _wrong(guest, code, ("disk", n, key), error)
        elif disk.size is not None and disk.size < size:
            what = f"disk {disk.name} already has {exact_size(size)}, and Dacha does not shrink disks"
            smaller = BadValue(what, f'set size = "{exact_size(size)}" or more')
            yield _wrong(guest, "disk-shrink", ("disk", n, "size"), smaller)


def _answer_findings(ws: Workspace, guest: Guest) -> Iterator[Finding]:
    """An installation without an answer file, although the lab file has a login or a setup."""
    if not guest.install or not guest.answers:
        return
    from dacha.engine.guest import answers, install
    from dacha.engine.network.install_files import network_of
    from dacha.formats.answers.forms import FORMS

    if guest.by_network and not network_of(ws.lab, guest):
        return  # the plan has a finding for it
    if not install.pending(ws, guest.name, ws.home.read(guest.name)):
        return
    subject, path = f"guest {guest.name}", ("guest", guest.name, "install")
    if why := answers.why_none(ws, guest):
        what = f"its installation is interactive: {why[0]}"
        kind = WARNING if needs_plain(guest) and "password" in why[0] else NOTE
        yield Finding(kind, "no-answers", subject, what, why[1], path, "host")
    elif by_hand := FORMS[answers.family(ws, guest)].by_hand:
        what = "its installer does not look for its answer file by itself"
        yield Finding(NOTE, "answers-by-hand", subject, what, f"type in its shell: {by_hand}", path, "host")
    if needs_plain(guest):
        from dacha.engine.check.windows import windows_findings

        yield from windows_findings(ws, guest)


def _part_findings(guest: Guest) -> Iterator[Finding]:
    """Firmware, boot ROMs and TPMs that this host does not have."""
    if guest.firmware == "uefi":
        from dacha.hypervisor import firmware

        try:
            firmware.find(guest.secure_boot)
        except HostError as e:
            yield _wrong(guest, "firmware", ("secure-boot" if guest.secure_boot else "firmware",), e)
    if "network" in guest.boot_order and guest.firmware == "bios" and not any(map(os.path.exists, BOOT_ROMS)):
        what = "this host has no network boot ROMs"
        error = HostError(what, remedy="on Debian: apt install ipxe-qemu")
        yield _wrong(guest, "boot-rom", ("boot-order",), error)
    if guest.tpm:
        from dacha.hypervisor.beside import tpm

        try:
            tpm.find()
        except HostError as e:
            yield _wrong(guest, "tpm", ("tpm",), e)


def _new_disk_troubles(ws: Workspace, disk: Disk) -> Iterator[tuple[str, HostError]]:
    """What prevents the creation of a disk: (key, error)."""
    from dacha.engine.disks.storages import storage_folder

    if disk.base:
        try:
            base = base_image(ws, disk.base)
        except HostError as e:
            yield "from", e
        else:
            from dacha.hypervisor.images.making import refuse_smaller

            try:
                refuse_smaller(base, disk.size)
            except HostError as e:
                yield "size", e
    try:
        if disk.storage in (None, *ws.lab.storages):
            storage_folder(ws, disk)
    except HostError as e:
        yield "storage", e


def _driver_findings(ws: Workspace, guest: Guest) -> Iterator[Finding]:
    """Disks on a bus that the guest's directly booted kernel has no driver for: its system would not see them."""
    from dacha.formats.linux.kernel_drivers import has_driver

    boot = guest.boot
    files = [ws.resolve(f) for f in (boot.kernel, boot.initrd) if f] if boot else []
    if guest.firmware == "uefi" and files and files[0].is_file() and files[0].open("rb").read(4) == b"\x7fELF":
        yield Finding(
            ERROR,
            "kernel-unpacked",
            f"guest {guest.name}",
            "UEFI cannot start an uncompressed kernel (this one is an ELF image)",
            'use the compressed one (vmlinuz), or firmware = "bios"',
            ("guest", guest.name, "boot", "kernel"),
            "host",
        )
    for n, disk in enumerate(guest.disks):
        driver = BUSES[disk.bus].driver
        known: bool | None = None
        try:
            known = has_driver(map(_mapped, sorted(files, key=lambda f: f.stat().st_size)), driver)
        except (OSError, ValueError):
            return  # reported already, or an empty file
        if known is False:
            yield Finding(
                ERROR,
                "no-driver",
                f"guest {guest.name}",
                f"disk {disk.name} is on {disk.bus}, but neither its kernel nor its initrd has the driver {driver}",
                f"another bus ({', '.join(b for b in BUSES if b != disk.bus)}), or a kernel that includes this driver",
                ("guest", guest.name, "disk", n, "bus"),
                "host",
            )


def _mapped(path: pathlib.Path) -> mmap.mmap:
    """A file's contents, of which only accessed parts are read. Raises OSError, ValueError for an empty file."""
    import mmap

    with path.open("rb") as f:
        return mmap.mmap(f.fileno(), 0, access=mmap.ACCESS_READ)


def minimum_findings(guest: Guest) -> list[Finding]:
    """Values below the requirements of the guest's system, by its profile."""
    from dacha.core.lab.table.profile import PLAIN
    from dacha.engine.profiles import profiles

    least = profiles().get(guest.system, PLAIN).minimum
    found = []
    disk = guest.disks[0].size if guest.disks else None
    memory, whose = least.memory, guest.system
    if guest.install and (least.installer_memory or 0) > (memory or 0):
        memory, whose = least.installer_memory, f"{guest.system}'s installer"
    for key, has, needs, who in (
        ("cpus", guest.cpus, least.cpus, guest.system),
        ("memory", guest.memory, memory, whose),
        ("disk", disk, least.disk, guest.system),
    ):
        if has is not None and needs is not None and has < needs:
            shown = [str(v) if key == "cpus" else show_size(v) for v in (has, needs)]
            what = f"{key}: {shown[0]} is less than {who} needs ({shown[1]})"
            found.append(
                Finding(
                    WARNING,
                    "under-minimum",
                    f"guest {guest.name}",
                    what,
                    f"set it to {shown[1]} or more",
                    ("guest", guest.name, key),
                    "host",
                )
            )
    return found


def _medium_findings(ws: Workspace, guest: Guest, key: str, written: str) -> list[Finding]:
    """A medium that does not exist, or that the guest's firmware cannot boot."""
    from dacha.engine.media.media_store import Store

    store = Store(ws.lab)
    kept = None if "/" in written else store.find(written)
    subject, path = f"guest {guest.name}", ("guest", guest.name, key)
    if kept is None:
        if ws.resolve(written).is_file():
            return []
        names = [k.name for k in store.all()]
        remedy = did_you_mean(written, names, f"add it: dacha media add FILE --name {written}")
        return [Finding(ERROR, "medium", subject, f"{key}: no medium {written} exists", remedy, path, "host")]
    if key == "install" and kept.facts.get("kind") == "iso" and not kept.facts.get(guest.firmware):
        other = "uefi" if guest.firmware == "bios" else "bios"
        remedy = f'firmware = "{other}"' if kept.facts.get(other) else "it is not an installation medium"
        what = f"install: {written} does not boot by {guest.firmware.upper()}"
        return [Finding(ERROR, "medium-boot", subject, what, remedy, path, "host")]
    return []
