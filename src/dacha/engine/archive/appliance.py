"""Make a guest of a machine that another program exported: an OVF package, as a folder or as one tar file (OVA).

Nothing in the package is believed. Its files have plain names and are opened beside its description only. Its checksums
are compared, if it has any. Each disk image is judged like any other before QEMU's tool converts it.
"""

from __future__ import annotations

import contextlib
import hashlib
import os
import tarfile
from collections.abc import Callable, Iterable, Iterator
from pathlib import Path
from typing import Any, BinaryIO

from dacha.core.archive.appliance import Appliance
from dacha.core.errors import AnswerNo, HostError, PeerError, UsageError
from dacha.core.lab.text.edits import Set
from dacha.core.named import NamedTuple
from dacha.core.spelling import did_you_mean
from dacha.core.units import MIB, exact_size, show_size
from dacha.engine.disks.room import space
from dacha.engine.lab.edit import edit_lab
from dacha.engine.lab.named import refuse_new_name
from dacha.engine.states import copying
from dacha.engine.workspace import Workspace
from dacha.formats.ovf.read import DESCRIPTION_MOST, checksums, decode
from dacha.host import folders
from dacha.host.files import refused
from dacha.hypervisor.images import chain, images, making

Progress = Callable[[str, float], None]
SUFFIXES = (".ova", ".ovf")
_CHUNK = 4 << 20
_READ = os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC


class Made(NamedTuple):
    """A guest that was made of a package: the workspace with it, its name, the machine, and whether the package's
    checksums were compared."""

    ws: Workspace
    guest: str
    appliance: Appliance
    compared: bool


class Package:
    """An open package: its description, and its other files in the order in which they come."""

    def __init__(self, path: Path) -> None:
        self._path = path
        self._tar: tarfile.TarFile | None = None
        self.sums: dict[str, tuple[str, str]] = {}

    def __enter__(self) -> Package:
        try:
            if self._path.suffix.lower() == ".ova":
                self._tar = tarfile.open(self._path, "r:")
                name = next((m.name for m in self._tar if m.name.lower().endswith(".ovf")), "")
            else:
                name = self._path.name
            data = self._small(name)
            if data is None:
                raise AnswerNo(f"{self._path.name} is not an OVF package", why="it has no description (.ovf)")
            self.appliance = decode(data)
            sums = self._small(Path(name).with_suffix(".mf").name)
            self.sums = checksums(sums.decode("utf-8", "replace")) if sums is not None else {}
            self._compare(name, [data])
        except PeerError as e:
            raise AnswerNo(f"{self._path.name}: {e.what}", why=e.why) from e
        except (tarfile.TarError, OSError) as e:
            raise AnswerNo(f"{self._path.name} cannot be read", why=str(e)) from e
        return self

    def __exit__(self, *exc: object) -> None:
        if self._tar is not None:
            self._tar.close()

    def length(self, name: str) -> int:
        """Return the length of a file (bytes). Raises AnswerNo if the package does not contain it."""
        with self._opened(name) as (_, length):
            return length

    def extract(self, name: str, target: Path, progress: Callable[[float], None]) -> None:
        """Write a file of the package to a new one, and compare its checksum. Raises AnswerNo, HostError."""

        def pieces(stream: BinaryIO, length: int, out: BinaryIO) -> Iterator[bytes]:
            done = 0
            while piece := stream.read(_CHUNK):
                out.write(piece)
                done += len(piece)
                progress(done / max(1, length))
                yield piece

        try:
            with self._opened(name) as (stream, length), target.open("xb") as out:
                self._compare(name, pieces(stream, length, out))
                out.flush()
        except (tarfile.TarError, EOFError) as e:
            raise AnswerNo(f"{name} of the package cannot be read", why=str(e)) from e
        except OSError as e:
            raise refused(target, e) from e

    def verify(self, name: str) -> None:
        """Read a file of the package, and compare its checksum. Raises AnswerNo."""
        try:
            with self._opened(name) as (stream, _):
                self._compare(name, iter(lambda: stream.read(_CHUNK), b""))
        except (tarfile.TarError, EOFError, OSError) as e:
            raise AnswerNo(f"{name} of the package cannot be read", why=str(e)) from e

    def _compare(self, name: str, pieces: Iterable[bytes]) -> None:
        algorithm, wanted = self.sums.get(name, ("sha256", ""))
        digest = hashlib.new(algorithm)
        for piece in pieces:
            digest.update(piece)
        if wanted and digest.hexdigest() != wanted:
            raise AnswerNo(
                f"{name} of the package was altered, or is not complete",
                why=f"its {algorithm.upper()} differs from the one in the package's manifest",
                remedy="copy the package again",
            )

    def _small(self, name: str) -> bytes | None:
        """A small file of the package; None if it does not exist. Raises PeerError for a large one."""
        try:
            with self._opened(name) as (stream, _):
                data = stream.read(DESCRIPTION_MOST + 1)
        except AnswerNo:
            return None
        if len(data) > DESCRIPTION_MOST:
            raise PeerError(f"{name[:60]} has more than {DESCRIPTION_MOST // MIB} MiB")
        return data

    @contextlib.contextmanager
    def _opened(self, name: str) -> Iterator[tuple[BinaryIO, int]]:
        if self._tar is not None:
            member = next((m for m in self._tar if m.name == name and m.isfile()), None)
            stream = self._tar.extractfile(member) if member else None
            if member is None or stream is None:
                raise AnswerNo(f"the package does not have its file {name[:80]}")
            with stream:
                yield stream, member.size  # type: ignore[misc]
            return
        try:
            fd = os.open(self._path.parent / name, _READ)
        except OSError as e:
            raise AnswerNo(f"the package does not have its file {name[:80]}", why=e.strerror or str(e)) from e
        with os.fdopen(fd, "rb") as f:
            yield f, os.fstat(fd).st_size


def load_appliance(
    named: str | None, ws: Workspace, path: Path, new: str | None, *, network: str | None, progress: Progress
) -> Made:  # fmt: skip
    """Make a guest of a package. The lab's lock must be held. Raises AnswerNo for a package that is not sound,
    UsageError, LabError, HostError; then nothing is left of the guest."""
    home = ws.home
    copying.settle(ws)
    with Package(path) as package:
        machine = package.appliance
        name = new or _as_name(machine.name) or _as_name(path.stem)
        refuse_new_name(ws, name)
        wanted = _network(ws, machine, network)
        _refuse_without_room(home.folder, package, machine)
        home.make_guest(name)
        copying.marker(home, name).write_text("")
        try:
            sizes = []
            for n, disk in enumerate(machine.disks):
                link = home.disk(name, str(n))
                if not disk.file:
                    making.create(link, size=disk.size, base=None, full=False)
                    sizes.append(disk.size)
                else:
                    sizes.append(_converted(package, disk.file, link, progress))
                chain.note(link)
            record = home.read(name)
            record.buses = {str(n): "sata" for n in range(len(sizes))}
            home.write(name, record)
            ws = edit_lab(named, lambda before: [Set(("guest", name), _table(machine, sizes, wanted))])
        except BaseException:
            home.forget_guest(name)
            raise
        copying.marker(home, name).unlink()
        return Made(ws, name, machine, bool(package.sums))


def _converted(package: Package, file: str, link: Path, progress: Progress) -> int:
    """Convert a disk of the package; returns its size (bytes)."""
    part = link.with_name(f".{link.name}.of-package.part")
    try:
        package.extract(file, part, lambda share: progress(f"reading {file}", share))
        image = images.inspect(part)
        making.copy(image, link, size=None, full=False, progress=lambda share: progress(f"converting {file}", share))
        return image.size
    except HostError as e:
        if e.what.startswith(str(part)):
            what = e.what.removeprefix(str(part)).strip()
            raise AnswerNo(f"{file} of the package {what}", why=e.why) from e
        raise
    finally:
        with contextlib.suppress(OSError):
            part.unlink()


def _refuse_without_room(folder: Path, package: Package, machine: Appliance) -> None:
    """Each file is copied, then converted: its contents take at least as much."""
    needed = 2 * sum(package.length(d.file) for d in machine.disks if d.file)
    free = space(folder)[0]
    if needed > free:
        raise HostError(
            f"no room for {machine.name}: its disks take at least {show_size(needed)} while they are converted",
            why=f"{show_size(free)} is free in {folder}", remedy="free some space there",
        )  # fmt: skip


def _as_name(text: str) -> str:
    """A guest's name made of another program's: lower-case letters, digits and dashes."""
    letters = (c if c.isascii() and c.isalnum() else "-" for c in text.lower())
    return "-".join(part for part in "".join(letters).split("-") if part)[:40].strip("-")


def _network(ws: Workspace, machine: Appliance, network: str | None) -> str | None:
    """The network of its adapters. Raises UsageError if it must be chosen."""
    if not machine.adapters:
        return None
    known = list(ws.lab.networks)
    if network is None and len(known) == 1:
        return known[0]
    if network in ws.lab.networks:
        return network
    if network is None:
        remedy = f"choose one: --network {known[0]}" if known else "add one: dacha network add NAME"
        raise UsageError(f"{machine.name} has an adapter, and its network is not chosen", remedy=remedy)
    raise UsageError(f"the lab has no network {network}", remedy=did_you_mean(network, known, "choose another network"))


def _table(machine: Appliance, sizes: list[int], network: str | None) -> dict[str, Any]:
    """The guest's table: devices that systems know without further drivers, and no first-boot data, as it was installed
    already."""
    table: dict[str, Any] = {
        "system": machine.system, "cpus": machine.cpus, "memory": exact_size(machine.memory),
    }  # fmt: skip
    if machine.firmware == "uefi":
        table["firmware"] = "uefi"
    table["first-boot"] = False
    if sizes:
        table["disk"] = [{"size": exact_size(size), "bus": "sata"} for size in sizes]
    if machine.adapters and network:
        table["adapter"] = [{"network": network, "model": model} for model in machine.adapters]
    return table


def is_appliance(file: str) -> bool:
    """True for the name of a package."""
    return file.lower().endswith(SUFFIXES)


def described(file: str) -> tuple[Appliance, bool]:
    """The machine of a package, with every file of it read and compared with its checksum, if it has any: whether it
    has. Raises AnswerNo."""
    with Package(folders.expand(file)) as package:
        for disk in package.appliance.disks:
            if disk.file:
                package.verify(disk.file)
        return package.appliance, bool(package.sums)
