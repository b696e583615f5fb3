"""Write the images of archives: of a whole one, then what each later one changes of them."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Callable, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from functools import partial
from pathlib import Path

from dacha.core.errors import AnswerNo
from dacha.engine.archive.bases import Earlier, opened
from dacha.engine.archive.reading import Archive
from dacha.engine.home import Home
from dacha.formats.disk import qcow2
from dacha.host.files import refused, replace_file
from dacha.hypervisor.images import chain, images, making
from dacha.hypervisor.images.image_tool import Image

_NEW = os.O_RDWR | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC


def extract_all(
    home: Home, name: str, before: Sequence[Earlier], archive: Archive, progress: Callable[[float], None]
) -> None:
    """Write the images and further files of an archive, on top of those `before` it. Each image is examined when its
    archive is known to be whole. Raises AnswerNo, HostError; what was written then is not complete."""
    disks = {d.name: home.disk(name, d.name) for d in archive.manifest.disks}
    parts = len(before) + 1
    for n, base in enumerate(before):
        with opened(base) as part:
            _apply(home, name, part, disks, n > 0, partial(_share, progress, n, parts))
    further = _apply(home, name, archive, disks, bool(before), partial(_share, progress, parts - 1, parts))
    for file, data in further.items():
        replace_file(home.guest(name) / file, data, 0o600)
    for path in disks.values():
        chain.note(path)


def _share(progress: Callable[[float], None], part: int, parts: int, share: float) -> None:
    progress((part + share) / parts)


def _apply(
    home: Home, name: str, archive: Archive, disks: dict[str, Path], changes: bool, progress: Callable[[float], None]
) -> dict[str, bytes]:
    """Write the images of one archive, or merge its `changes` into those that are there; its further files."""
    images_of = {d: home.guest(name) / f".{d}.changes" if changes else path for d, path in disks.items()}
    further = _extract(archive, images_of, progress)
    for disk in archive.manifest.disks:
        _examine(images_of[disk.name], disk.size)
        if changes:
            making.merge(images_of[disk.name], disks[disk.name])
            images_of[disk.name].unlink()
    return further


def _extract(archive: Archive, paths: dict[str, Path], progress: Callable[[float], None]) -> dict[str, bytes]:
    """Write the images to these files; the further files of the archive."""
    with contextlib.ExitStack() as stack:
        files: dict[str, int] = {}
        for disk in archive.manifest.disks:
            path = paths[disk.name]
            try:
                files[disk.name] = os.open(path, _NEW, 0o600)
                stack.callback(os.close, files[disk.name])
                os.ftruncate(files[disk.name], disk.length)
            except OSError as e:
                raise refused(path, e) from e
        further: dict[str, bytes] = {}
        # Written beside the reading: one block at a time, so that a full disk is noticed at the next one.
        writer = stack.enter_context(ThreadPoolExecutor(1))
        written: Future[int] | None = None
        last = ""
        for block in archive.blocks(progress):
            if block.disk is None:
                further[block.file] = block.data
                continue
            _await(written, last, paths)
            written, last = writer.submit(os.pwrite, files[block.disk], block.data, block.at), block.disk
        _await(written, last, paths)
        for fd in files.values():
            os.fsync(fd)
    return further


def _await(written: Future[int] | None, disk: str, paths: dict[str, Path]) -> None:
    try:
        if written:
            written.result()
    except OSError as e:
        raise refused(paths[disk], e) from e


def _examine(path: Path, size: int) -> None:
    """Refuse an image that is not what the archive says: an image of its own, of that size, without damage."""
    own = images.header(path)
    with path.open("rb") as f:
        head = qcow2.decode(f.read(qcow2.HEAD))
    if own.format != "qcow2" or own.backing is not None or head is None or head.size != size:
        raise AnswerNo("the archive has an image that is not what it says", why=f"{path.name}: {own.format}")
    if own.encrypted:
        return  # its contents are readable with its passphrase only; its blocks had their checksums
    if why := images.damage(Image(path, "qcow2", size, (path,))):
        raise AnswerNo("the archive has an image that is damaged", why=why)
