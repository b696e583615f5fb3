"""Save a guest as an OVF package in one file (OVA), for other programs: its virtual hardware and its disks."""

from __future__ import annotations

import contextlib
import hashlib
import io
import tarfile
import time
from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import BinaryIO

from dacha.core.apply.observed import ON
from dacha.core.archive.appliance import Appliance, ApplianceDisk
from dacha.core.errors import AnswerNo, HostError
from dacha.core.lab.model import Guest
from dacha.core.named import NamedTuple
from dacha.engine.archive.saving import Counted, Lock, savable, standalone
from dacha.engine.lab.named import guest_named
from dacha.engine.states.copying import working_folder
from dacha.engine.workspace import Workspace
from dacha.formats.ovf.write import Part, encode, manifest
from dacha.hypervisor.images import chain, making
from dacha.hypervisor.images.image_tool import Image

Progress = Callable[[str, float], None]
_CHUNK = 4 << 20
# The longest file of a tar archive in the form of POSIX (ustar: eleven octal digits).
_USTAR_MOST = 8**11 - 1


class Exported(NamedTuple):
    """A package that was written: its machine; the length of each disk's file and of the package (bytes); when; whether
    the guest was running, and its file systems frozen; what of the guest other programs will not know."""

    machine: Appliance
    lengths: tuple[int, ...]
    length: int
    at: float
    running: bool
    frozen: bool
    omitted: tuple[str, ...]


def export(ws: Workspace, name: str, out: BinaryIO, *, progress: Progress, lock: Lock) -> Exported:
    """Write a guest to a stream as a package. For a running guest the lab is held (`lock`) only until copies of its
    disks have begun. Raises DachaError; what was written then is not a whole package."""
    with contextlib.ExitStack() as lab:
        lab.enter_context(lock())
        return _export(ws, name, out, progress, lab.close)


def _export(ws: Workspace, name: str, out: BinaryIO, progress: Progress, release: Callable[[], None]) -> Exported:
    home, guest = ws.home, guest_named(ws, name)
    saved, seen = savable(ws, name)
    disks = {n: path for n, (path, _) in saved.items()}
    for path in disks.values():
        if chain.passphrase_source(path):
            raise AnswerNo(
                f"{chain.words(path)} is encrypted, and an OVF package would contain it without encryption",
                remedy=f"to save the guest with its encryption: dacha guest save {name} FILE",
            )
    sizes = {n: chain.as_image(path).size for n, path in disks.items()}
    with working_folder(home, name) as work:
        packed = {n: work / f"{name}-disk-{n}.vmdk" for n in disks}
        with standalone(home, name, disks, seen.state == ON, release, progress) as (files, frozen):
            for n, file in files.items():
                source = Image(file.resolve(), "qcow2", sizes[n], (file.resolve(),))
                making.stream_optimized(source, packed[n], partial(progress, f"converting disk {n}"))
        machine = Appliance(
            name=name, cpus=guest.cpus, memory=guest.memory, system=guest.system, firmware=guest.firmware,
            disks=tuple(ApplianceDisk(packed[n].name, size) for n, size in sizes.items()),
            adapters=tuple(a.model for a in guest.adapters),
        )  # fmt: skip
        at, counted = time.time(), Counted(out)
        lengths = tuple(path.stat().st_size for path in packed.values())
        networks = tuple(a.network for a in guest.adapters)
        try:
            _write(counted, machine, networks, list(packed.values()), at, progress)
        except OSError as e:
            raise HostError("cannot write the package", why=e.strerror or str(e)) from e
    return Exported(machine, lengths, counted.length, at, seen.running, frozen, _omitted(guest))


def _write(
    out: Counted, machine: Appliance, networks: tuple[str, ...], disks: list[Path], at: float, progress: Progress
) -> None:
    """Write the package: its description first, then the checksums, then the disks (DSP0243 section 5.3)."""
    parts = tuple(Part(path.name, path.stat().st_size, _digest(path)) for path in disks)
    told = encode(machine, networks, {part.name: part.length for part in parts})
    first = Part(f"{machine.name}.ovf", len(told), hashlib.sha256(told).hexdigest())
    _member(out, first.name, io.BytesIO(told), at)
    _member(out, f"{machine.name}.mf", io.BytesIO(manifest((first, *parts))), at)
    for n, path in enumerate(disks, 1):
        with path.open("rb") as f:
            _member(out, path.name, f, at)
        progress(f"saving {machine.name}", n / len(disks))
        path.unlink()
    # The end of a tar file: two empty records (POSIX.1, pax).
    out.write(bytes(2 * tarfile.BLOCKSIZE))
    out.flush()


def _member(out: Counted, name: str, content: BinaryIO, at: float) -> None:
    info = tarfile.TarInfo(name)
    info.size, info.mtime, info.mode = content.seek(0, io.SEEK_END), int(at), 0o600
    content.seek(0)
    out.write(info.tobuf(tarfile.USTAR_FORMAT if info.size <= _USTAR_MOST else tarfile.GNU_FORMAT))
    for piece in iter(partial(content.read, _CHUNK), b""):
        out.write(piece)
    out.write(bytes(-info.size % tarfile.BLOCKSIZE))


def _digest(path: Path) -> str:
    with path.open("rb") as f:
        return hashlib.file_digest(f, "sha256").hexdigest()


def _omitted(guest: Guest) -> tuple[str, ...]:
    """What of a guest the package does not have, though its system may need it."""
    found = []
    if guest.boot:
        found.append(f"{guest.name} starts with a kernel of this host (boot): elsewhere its disk needs a boot loader")
    if guest.tpm:
        found.append("its TPM is not in the package: a system that encrypts its disk with it requires its recovery key")
    if guest.firmware == "uefi":
        found.append("its firmware is UEFI: choose UEFI in the other program, too")
    return tuple(found)
