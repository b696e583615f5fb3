"""Disk images, created by QEMU's own image tool, atomically."""

from __future__ import annotations

import json
import os
import subprocess
import tempfile
from collections.abc import Callable, Iterable
from pathlib import Path
from typing import Any

from dacha.core.errors import HostError, PeerError
from dacha.core.named import NamedTuple
from dacha.core.units import exact_size, show_size
from dacha.formats.disk.boot_sectors import SECTORS
from dacha.formats.disk.disk_image import DiskImage, judge
from dacha.host import confine
from dacha.host.accounts import helper
from dacha.host.facts import program
from dacha.hypervisor.images.whole import whole

FORMATS = ("qcow2", "raw", "vmdk", "vdi", "vhdx", "vpc")
# Formats that a disk can be an overlay on; images of other hypervisors are converted into a disk.
CLONABLE = ("qcow2", "raw")
# The limit of backing chains: deeper ones are slow to read, and a circle never ends.
DEEPEST = 40
# The limit for measuring an image's contents (seconds of CPU time).
MEASURE_S = 60
# How much more than measured a copy may take: its own tables (bytes).
OVERHEAD = 64 << 20
# The reserved part of a file system and its maximum (bytes): running guests write to it.
RESERVE_PART, RESERVE_MOST = 50, 1 << 30


class Image(NamedTuple):
    """An image file: its format and the size of its disk in bytes; `files` are itself and its backing images."""

    path: Path
    format: str
    size: int
    files: tuple[Path, ...]


def tool() -> str:
    found = program("qemu-img")
    if not found:
        raise HostError(
            "qemu-img is not installed",
            why="it creates disks",
            remedy="install QEMU's tools; on Debian: apt install qemu-utils",
        )
    return found


def inspect(path: Path, stores: Iterable[Path] = ()) -> Image:
    """Examine an image. Raises HostError if it is missing or not a disk image, or if it refers to files that are not
    allowed: only images in one of the `stores` may be backing images.

    Any file can be read as raw, so a raw image must consist of whole sectors and have a boot signature or a partition
    table; a web page saved under the wrong name has neither.
    """
    if not path.is_file():
        raise HostError(f"no image {path} exists", remedy="use a path relative to the lab file, or an absolute path")
    inside = [folder.resolve() for folder in stores]
    layers = chain(path, lambda file: any(file.resolve().is_relative_to(folder) for folder in inside))
    form = layers[0][1]
    if form not in FORMATS or (form == "raw" and not _looks_like_disk(path)):
        raise HostError(
            f"{path} is not a disk image",
            why="it has neither a known image header nor a boot sector",
            remedy="check that the download is complete, and compare its checksum",
        )
    facts = _facts(path, form)
    return Image(path, form, facts["virtual-size"], tuple(file for file, _ in layers))


def _looks_like_disk(path: Path) -> bool:
    size = path.stat().st_size
    if size < 512 or size % 512:
        return False
    with path.open("rb") as f:
        head = f.read(2048)
    # MBR or boot sector signature; the ext family's magic at 1080; zeros at the start mean a blank disk.
    return head[510:512] == b"\x55\xaa" or head[1080:1082] == b"\x53\xef" or not any(head)


def _facts(path: Path, form: str) -> dict[str, Any]:
    """What QEMU's tool reports about one image, without its backing images. Raises HostError."""
    command = [tool(), "info", "--output=json", "-U", "-f", form, str(path)]
    code, out, err = confine.run(command, helper(), read=[path])
    if code:
        raise HostError(f"{path} cannot be read as an image", why=_words(err))
    return dict(json.loads(out))


def header(path: Path) -> DiskImage:
    """An image's header. Raises HostError if it is not readable, damaged, or not allowed."""
    try:
        with path.open("rb") as f:

            def read(at: int, length: int) -> bytes:
                f.seek(at)
                return f.read(length)

            return judge(read, path.stat().st_size)
    except PeerError as e:
        raise HostError(
            f"{path} cannot be used as an image", why=e.what, remedy="use an image that is complete in one file"
        ) from e
    except OSError as e:
        raise HostError(f"cannot read the image {path}", why=e.strerror or str(e)) from e


def chain(path: Path, allowed: Callable[[Path], bool] = lambda file: True) -> list[tuple[Path, str]]:
    """A disk's image and its backing images, each with its format, from their headers; `allowed` tells which files may
    be backing images. Raises HostError."""
    found: list[tuple[Path, str]] = []
    here: Path = path
    known = ""
    while len(found) < DEEPEST:
        # The recorded format counts: a raw disk may begin like an image, and its guest would choose the backing file.
        if known == "raw":
            return [*found, (here, known)]
        image = header(here)
        if known and image.format != known:
            raise HostError(f"{here} is {image.format}, but {path} says {known}", remedy="use another image")
        found.append((here, image.format))
        if image.backing is None:
            return found
        if ":" in image.backing.partition("/")[0]:
            raise HostError(
                f"{path} cannot be used as an image",
                why=f"its backing image is not a file: {image.backing[:80]!r}",
                remedy="use an image that is complete in one file",
            )
        below = here.parent / image.backing
        if not allowed(below):
            raise HostError(
                f"the image {here.name} depends on another file, {below}",
                why="Dacha uses such an image only if that file is a medium of its stores",
                remedy=f"if you trust both, merge them into one file: qemu-img convert -O qcow2 {here} WHOLE.qcow2, "
                "then dacha media add WHOLE.qcow2",
            )
        here, known = below, image.backing_format or "raw"
    raise HostError(
        f"{path} depends on a chain of more than {DEEPEST} images", remedy="merge it into one: qemu-img convert"
    )


def damage(image: Image) -> str | None:
    """Damage inside an image, by QEMU's own check; None if it is intact, or its format has no check."""
    command = [tool(), "check", "-U", "-f", image.format, str(image.path)]
    code, out, err = confine.run(command, helper(), read=image.files)
    if code in (0, 3, 63):  # intact; leaked space only; no check for this format
        return None
    return "the image is damaged or truncated: " + ((err.strip() or out.strip()).splitlines() or ["no reason given"])[0]


def first_sectors(image: Image, count: int = SECTORS) -> bytes:
    """The first sectors of the disk in an image, that many of 512 bytes, even if a guest has it open. Empty if they are
    not readable."""
    with tempfile.TemporaryDirectory(prefix="dacha-sectors-") as folder:
        out = Path(folder) / "sectors"
        out.touch()
        command = [tool(), "dd", "-U", "-f", image.format, "-O", "raw", "bs=512", f"count={count}",
                   f"if={image.path}", f"of={out}"]  # fmt: skip
        if confine.run(command, helper(), read=image.files, write=[Path(folder)])[0]:
            return b""
        return out.read_bytes()


def grow(path: Path, size: int) -> None:
    """Grow a disk that no guest has open. Raises HostError."""
    # It is our own disk, whatever its guest wrote to its header: no backing file is opened.
    header(path)
    _run([tool(), "resize", "-q", "-f", "qcow2", str(path), str(size)], f"cannot grow the disk {path}", write=[path])


def rebase(path: Path, below: Path, form: str) -> None:
    """Change the name of the backing image of a disk that no guest has open. Its contents do not change, and no backing
    file is opened. Raises HostError."""
    command = [tool(), "rebase", "-q", "-u", "-f", "qcow2", "-F", form, "-b", str(below), str(path)]
    _run(command, f"cannot use {below} as the backing image of disk {path}", write=[path])


def create(path: Path, *, size: int | None, base: Image | None, full: bool) -> None:
    """Create a qcow2 disk: empty, or a copy-on-write overlay on `base`, with `size` bytes (default: the base's). `full`
    allocates all space at once. Raises HostError; then nothing is left."""
    refuse_smaller(base, size)
    wanted = size or (base.size if base else 0)
    if full:
        _need_space(path.parent, wanted, f"a full disk of {show_size(wanted)}", 'set allocation = "thin"')
    command = [tool(), "create", "-q", "-f", "qcow2", "-o", f"preallocation={'falloc' if full else 'off'}"]
    if base:
        # Not opened (-u): it was examined before, and its size is known.
        command += ["-u", "-b", str(base.path), "-F", base.format]
    with whole(path) as temporary:
        _run([*command, str(temporary), str(wanted)], f"cannot create the disk {path}", write=[path.parent])


def copy(base: Image, path: Path, *, size: int | None, full: bool, progress: Callable[[float], None]) -> None:
    """Create an independent qcow2 disk with the contents of `base`, whatever the image's format. `progress` is called
    with the finished part, up to 1. Raises HostError; then nothing is left."""
    refuse_smaller(base, size)
    wanted = size or base.size
    holds = wanted
    if full:
        _need_space(path.parent, wanted, f"a full copy of {show_size(wanted)}", 'set allocation = "thin"')
    else:
        holds = _to_be_written(base)
        _need_space(path.parent, holds, f"a copy of {base.path.name} ({show_size(holds)} of contents)", "")
    command = [tool(), "convert", "-p", "-f", base.format, "-O", "qcow2"]
    with whole(path) as temporary:
        child = confine.spawn(
            [*command, str(base.path), str(temporary)], helper(), read=base.files, write=[path.parent],
            largest=(wanted if full else holds) + OVERHEAD, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True,
        )  # fmt: skip
        assert child.stdout and child.stderr
        # Its output is " (12.34/100%)" and a carriage return.
        word = ""
        while piece := child.stdout.read(1):
            word = "" if piece in "\r\n" else word + piece
            if word.endswith("/100%)"):
                progress(float(word.strip(" (").removesuffix("/100%)")) / 100)
        words = child.stderr.read()
        if child.wait():
            raise HostError(f"cannot copy {base.path}", why=_words(words))
        if full or wanted > base.size:
            grow = [tool(), "resize", "-q", "-f", "qcow2", *(["--preallocation=falloc"] if full else [])]
            _run([*grow, str(temporary), str(wanted)], f"cannot create the disk {path}", write=[temporary])


def _to_be_written(base: Image) -> int:
    """The bytes that a copy of an image needs: not the image's own size, because it may refer to the same data a
    thousand times. Raises HostError."""
    command = [tool(), "measure", "--output=json", "-O", "qcow2", "-f", base.format, str(base.path)]
    code, out, err = confine.run(command, helper(), read=base.files, seconds=MEASURE_S)
    if code:
        why = _words(err) if code > 0 else f"its size could not be measured within {MEASURE_S} s of CPU time"
        raise HostError(f"cannot copy {base.path}", why=why)
    return int(json.loads(out)["required"])


def refuse_smaller(base: Image | None, size: int | None) -> None:
    """Raise HostError for a disk of `size` bytes that is smaller than its image."""
    if base and size and size < base.size:
        raise HostError(
            f"a disk of {exact_size(size)} is smaller than its image ({exact_size(base.size)})",
            remedy=f'set size = "{exact_size(base.size)}" or more',
        )


def _need_space(folder: Path, wanted: int, what: str, instead: str) -> None:
    """Raises HostError if `wanted` bytes are not free, before anything is written."""
    usage = os.statvfs(folder)
    free = usage.f_bavail * usage.f_frsize
    reserve = min(RESERVE_MOST, usage.f_blocks * usage.f_frsize // RESERVE_PART)
    if wanted > free - reserve:
        remedy = "free some space" + (f", or {instead}" if instead else ", or use a storage with enough space")
        why = f"{show_size(free)} is free, and {show_size(reserve)} of that is reserved for running guests"
        raise HostError(f"no space for {what} in {folder}", why=why, remedy=remedy)


def _run(command: list[str], failed: str, write: list[Path]) -> None:
    code, _, err = confine.run(command, helper(), write=write)
    if code:
        raise HostError(failed, why=_words(err))


def _words(complaint: str) -> str:
    return complaint.strip().removeprefix("qemu-img: ")
