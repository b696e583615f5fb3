"""Save a guest to one file, or to a pipe, whether it runs or not."""

from __future__ import annotations

import contextlib
import os
import platform
import tarfile
import time
from collections import deque
from collections.abc import Callable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from functools import partial
from pathlib import Path
from typing import BinaryIO

from dacha.core.apply.observed import ON, SAVED, ObservedGuest
from dacha.core.archive.manifest import BLOCK, FIRST, FURTHER, LAST, ArchivedDisk, Manifest, Seal, block_name
from dacha.core.archive.marks import NO_MARKS, Marks
from dacha.core.errors import AnswerNo, DachaError, HostError, UsageError
from dacha.core.named import NamedTuple
from dacha.engine.archive.basis import WHOLE, Basis
from dacha.engine.disks.disks import attached
from dacha.engine.guest.observe import observe_guest
from dacha.engine.home import Home
from dacha.engine.lab.named import guest_named
from dacha.engine.states.beside import read
from dacha.engine.states.copying import begin_live, end_live, settle, working_folder, written_table
from dacha.engine.workspace import Workspace
from dacha.host import folders
from dacha.host.files import lock_briefly, refused
from dacha.hypervisor.images import chain, copying, snapshots
from dacha.hypervisor.live import copies

Progress = Callable[[str, float], None]
# Holds the lab.
Lock = Callable[[], contextlib.AbstractContextManager[None]]
# The level of compression that costs little more time than copying.
LEVEL = 3
# Blocks that are compressed at the same time: each takes its length twice in memory.
AT_ONCE = 2
_ZEROS = bytes(BLOCK)


class Archived(NamedTuple):
    """An archive that was written: its description, and its length (bytes)."""

    manifest: Manifest
    length: int


def save(
    ws: Workspace, name: str, out: BinaryIO, *, with_keys: bool, progress: Progress, lock: Lock, basis: Basis = WHOLE
) -> Archived:  # fmt: skip
    """Write a guest to a stream, or what changed of it since the archive in `basis`. The lab is held (`lock`) as long
    as other commands would disturb it: for a running guest only until copies of its disks have begun. Raises
    DachaError; what was written then is not a whole archive, and every reader finds that out."""
    with contextlib.ExitStack() as lab:
        lab.enter_context(lock())
        return _save(ws, name, out, with_keys, progress, lab.close, basis)


def _save(
    ws: Workspace, name: str, out: BinaryIO, with_keys: bool, progress: Progress, release: Callable[[], None],
    basis: Basis,
) -> Archived:  # fmt: skip
    home = ws.home
    disks, seen = savable(ws, name)
    board = written_table(ws, name)
    further = _further(home, name, with_keys=with_keys)
    with standalone(home, name, {n: path for n, (path, _) in disks.items()}, seen.state == ON, release, progress,
                    basis.marks) as found:  # fmt: skip
        files, frozen = found
        base = basis.base
        manifest = Manifest(
            guest=name, lab=ws.lab.name, at=time.time(), architecture=platform.machine(), table=board,
            disks=tuple(
                ArchivedDisk(n, bus, chain.as_image(path).size, files[n].stat().st_size)
                for n, (path, bus) in disks.items()
            ),
            installed=home.read(name).installed, running=seen.running, frozen=frozen, id=basis.marks.new,
            base=base.id if base else "", since=base.at if base else 0.0, depth=base.depth + 1 if base else 0,
        )  # fmt: skip
        counted = Counted(out)
        try:
            _write(counted, manifest, files, further, progress)
        except OSError as e:
            raise HostError("cannot write the archive", why=e.strerror or str(e)) from e
    return Archived(manifest, counted.length)


def savable(ws: Workspace, name: str) -> tuple[dict[str, tuple[Path, str]], ObservedGuest]:
    """The disks of a guest that can be saved, by name with their bus, and the guest as it is. Raises UsageError,
    AnswerNo."""
    home, guest = ws.home, guest_named(ws, name)
    settle(ws)
    home.refuse_if_archived(name)
    there = dict(home.disks(name))
    disks = {d.name: (there[d.name], d.bus) for d in guest.disks if d.name in there}
    if not disks:
        raise UsageError(f"{name} has no disk: there is nothing to save", remedy="copy its table in the lab file")
    seen = observe_guest(home, name, forwards=False)
    if seen.state == SAVED:
        raise AnswerNo(f"{name} is saved to disk, and its disks belong to that state", remedy=f"dacha start {name}")
    return disks, seen


@contextlib.contextmanager
def standalone(
    home: Home, name: str, disks: dict[str, Path], on: bool, release: Callable[[], None], progress: Progress,
    marks: Marks = NO_MARKS,
) -> Iterator[tuple[dict[str, Path], bool]]:  # fmt: skip
    """Images of the disks that need no other file and do not change: the disks themselves if they are so, else copies
    as they are at one moment; and whether the guest's file systems were frozen then. The lab is released (`release`)
    when only copies are needed. `marks` are for disks that are all open in a running guest: with them copies may have
    only what changed."""
    inside = attached(home, name)
    live = {n: path for n, path in disks.items() if n in inside}
    if marks.new and len(live) < len(disks):
        # Its images would be whole, and be merged as if they were changes.
        raise HostError(f"{name} was stopped before it could be saved", remedy="dacha guest archives --make")
    with working_folder(home, name) as folder:
        files, frozen = dict(disks), False
        told = partial(progress, f"copying {name}")
        if live:
            targets = {n: (path, Path(folder) / f"{n}.qcow2") for n, path in live.items()}
            try:
                frozen = begin_live(home, name, targets, whole=True, frozen_if=on, marks=marks)
                if len(live) == len(disks):
                    release()
                copies.finish(home.run(name), told)
            except BaseException as e:
                end_live(home, name)
                if isinstance(e, DachaError | OSError) and not home.is_running(name):
                    raise HostError(f"{name} ended while it was saved", remedy="save it again: dacha guest save") from e
                raise
            files |= {n: target for n, (_, target) in targets.items()}
        for n, path in disks.items():
            if n in live:
                continue
            image = path.resolve()
            if len(chain.layers(path)) > 1 or snapshots.in_image(image):
                copying.copy_off(path, Path(folder) / f"{n}.qcow2", whole=True, progress=told)
                files[n] = Path(folder) / f"{n}.qcow2"
        yield files, frozen


def _further(home: Home, name: str, *, with_keys: bool) -> dict[str, bytes]:
    """Further files of the guest: UEFI variables, and its SSH host key if wanted."""
    found = {}
    for file in FURTHER:
        wanted = with_keys or not file.startswith("host_key")
        if wanted and (data := read(home.guest(name) / file)) is not None:
            found[file] = data
    return found


class Counted:
    """A stream that counts what is written to it."""

    def __init__(self, out: BinaryIO) -> None:
        self._out, self.length = out, 0

    def write(self, data: bytes) -> None:
        self._out.write(data)
        self.length += len(data)

    def flush(self) -> None:
        self._out.flush()


def _write(
    out: Counted, manifest: Manifest, files: dict[str, Path], further: dict[str, bytes], progress: Progress
) -> None:
    seal = Seal()
    _add(out, seal, FIRST, manifest.text().encode(), manifest.at)
    total, before = sum(d.length for d in manifest.disks), 0
    for disk in manifest.disks:
        with files[disk.name].open("rb") as f:
            for number, packed in _packed(f, disk.length):
                _add(out, seal, block_name(disk.name, number), packed, manifest.at)
                progress(f"saving {manifest.guest}", min(1.0, (before + number * BLOCK) / total))
        before += disk.length
    for name, data in further.items():
        _add(out, seal, name, data, manifest.at)
    _add(out, None, LAST, seal.text().encode(), manifest.at)
    # The end of a tar file: two empty records (POSIX.1, pax).
    out.write(bytes(2 * tarfile.BLOCKSIZE))
    out.flush()


def _packed(f: BinaryIO, length: int) -> Iterator[tuple[int, bytes]]:
    """The blocks of an image that are not empty, compressed, by their number. Some are compressed at the same time,
    while others are written."""
    import zstandard

    def compress(data: bytes) -> bytes:
        return zstandard.ZstdCompressor(level=LEVEL, write_checksum=True).compress(data)

    with ThreadPoolExecutor(AT_ONCE) as pool:
        waiting: deque[tuple[int, Future[bytes]]] = deque()
        for number in range(-(-length // BLOCK)):
            if data := _block(f, number, length):
                waiting.append((number, pool.submit(compress, data)))
            if len(waiting) > AT_ONCE:
                first, made = waiting.popleft()
                yield first, made.result()
        for number, made in waiting:
            yield number, made.result()


def _block(f: BinaryIO, number: int, length: int) -> bytes:
    """A block of an image; empty if it has only zeros. A hole of the file is not read."""
    at = number * BLOCK
    size = min(BLOCK, length - at)
    try:
        data_at = os.lseek(f.fileno(), at, os.SEEK_DATA)
    except OSError:
        return b""  # no data up to the end
    if data_at >= at + size:
        return b""
    data = os.pread(f.fileno(), size, at)
    if len(data) != size:
        raise HostError("an image became shorter while it was read")
    return b"" if data == _ZEROS[:size] else data


def _add(out: Counted, seal: Seal | None, name: str, data: bytes, at: float) -> None:
    """Write one member. (tarfile's own writer copies each byte several times.)"""
    info = tarfile.TarInfo(name)
    info.size, info.mtime, info.mode = len(data), int(at), 0o600
    out.write(info.tobuf(tarfile.PAX_FORMAT))
    out.write(data)
    out.write(bytes(-len(data) % tarfile.BLOCKSIZE))
    if seal is not None:
        seal.add(name, data)


@contextlib.contextmanager
def new_archive(file: str, prove: Callable[[BinaryIO], object] = lambda stream: None) -> Iterator[BinaryIO]:
    """A new file for an archive: complete, or not there. `prove` may read it before it gets its name, and raise
    DachaError. Raises UsageError if it exists, HostError."""
    path = folders.expand(file)
    if path.exists():
        raise UsageError(f"{path} already exists", remedy="choose another name, or delete that file")
    part = path.with_name(f".{path.name}.{os.urandom(4).hex()}.part")
    try:
        fd = os.open(part, os.O_RDWR | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC, 0o600)
        with os.fdopen(fd, "w+b") as out:
            lock_briefly(fd)  # as long as it is, no other command sweeps it
            yield out
            out.flush()
            os.fsync(fd)
            out.seek(0)
            prove(out)
            part.rename(path)
    except OSError as e:
        raise refused(path, e) from e
    finally:
        part.unlink(missing_ok=True)
