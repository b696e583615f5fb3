"""Disk images, by QEMU's own image tool. A disk is made whole or not at all."""

from __future__ import annotations

import contextlib
import json
import os
import subprocess
import tempfile
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any, NamedTuple

from dacha.core.errors import HostError, PeerError
from dacha.core.units import show_size
from dacha.formats import qcow2
from dacha.formats.boot_sectors import SECTORS
from dacha.host.facts import program

FORMATS = ("qcow2", "raw", "vmdk", "vdi", "vhdx", "vpc")
# What a disk can be an overlay on; images in another hypervisor's format are converted into a disk of their own.
CLONABLE = ("qcow2", "raw")
# Overlays on overlays: deeper ones are slow to read, and a circle has no end.
DEEPEST = 40


class Image(NamedTuple):
    """An image file: its format and the size of the disk in it, in bytes."""

    path: Path
    format: str
    size: int


def _tool() -> str:
    found = program("qemu-img")
    if not found:
        raise HostError(
            "qemu-img is not on this machine",
            why="it makes the disks",
            remedy="install QEMU's tools; on Debian: apt install qemu-utils",
        )
    return found


def inspect(path: Path) -> Image:
    """What an image is. Raises HostError when it is missing or no disk image.

    Any file can be read as raw, so a raw image must at least be whole sectors and carry a boot signature
    or a partition table; a web page saved under the wrong name does not.
    """
    if not path.is_file():
        raise HostError(f"there is no image {path}", remedy="name one relative to the lab file, or by its whole path")
    done = subprocess.run(
        [_tool(), "info", "--output=json", "-U", str(path)], capture_output=True, text=True, check=False
    )
    if done.returncode:
        raise HostError(f"{path} cannot be read as an image", why=done.stderr.strip())
    facts: dict[str, Any] = json.loads(done.stdout)
    if facts["format"] not in FORMATS or (facts["format"] == "raw" and not _looks_like_disk(path)):
        raise HostError(
            f"{path} is not a disk image",
            why="it has no known image header, and no boot sector",
            remedy="was the download complete? compare its checksum",
        )
    return Image(path, facts["format"], facts["virtual-size"])


def _looks_like_disk(path: Path) -> bool:
    size = path.stat().st_size
    if size < 512 or size % 512:
        return False
    with path.open("rb") as f:
        head = f.read(2048)
    # MBR or boot sector signature; the ext family's magic at 1080; an all-zero start is a blank disk.
    return head[510:512] == b"\x55\xaa" or head[1080:1082] == b"\x53\xef" or not any(head)


def _facts(path: Path) -> dict[str, Any]:
    done = subprocess.run([_tool(), "info", "--output=json", "-U", str(path)], capture_output=True, check=False)
    return json.loads(done.stdout) if done.returncode == 0 else {}


def backing(path: Path) -> str | None:
    """The file that an overlay needs below it, None when the image stands alone."""
    facts = _facts(path)
    return facts.get("full-backing-filename") or facts.get("backing-filename")


def chain(path: Path) -> list[tuple[Path, str]]:
    """A disk's image and every one below it, each with its format, told from their headers. Raises HostError."""
    found: list[tuple[Path, str]] = []
    here, known = path, "qcow2"
    while len(found) < DEEPEST:
        try:
            with here.open("rb") as f:
                header = qcow2.decode(f.read(qcow2.HEAD))
        except (OSError, PeerError) as e:
            why = e.what if isinstance(e, PeerError) else e.strerror or str(e)
            raise HostError(f"cannot read the image {here}", why=why) from e
        # What is written down counts: a raw disk may begin like an image, and its guest would choose what is below it.
        found.append((here, known if header or known == "raw" else "raw"))
        if header is None or known == "raw" or header.backing is None:
            return found
        here, known = here.parent / header.backing, header.backing_format or "raw"
    raise HostError(f"{path} lies on more than {DEEPEST} images", remedy="copy it into one: qemu-img convert")


def damage(path: Path) -> str | None:
    """What is wrong inside an image, by QEMU's own check; None when nothing is, or its format has no check."""
    done = subprocess.run([_tool(), "check", "-U", str(path)], capture_output=True, text=True, check=False)
    if done.returncode in (0, 3, 63):  # right; leaked space only; no check for this format
        return None
    return "the image is damaged or cut short: " + (done.stderr.strip() or done.stdout.strip()).splitlines()[0]


def first_sectors(path: Path) -> bytes:
    """The first sectors of the disk in an image, also of one that a guest has open. Empty when they cannot be read."""
    with tempfile.TemporaryDirectory(prefix="dacha-sectors-") as folder:
        out = Path(folder) / "sectors"
        command = [_tool(), "dd", "-U", "-O", "raw", "bs=512", f"count={SECTORS}", f"if={path}", f"of={out}"]
        if subprocess.run(command, capture_output=True, check=False).returncode:
            return b""
        return out.read_bytes()


def grow(path: Path, size: int) -> None:
    """Make a disk that no guest has open larger. Raises HostError."""
    _run([_tool(), "resize", "-q", str(path), str(size)], f"cannot grow the disk {path}")


def create(path: Path, *, size: int | None, base: Image | None, full: bool) -> None:
    """Make a qcow2 disk: empty, or a copy-on-write overlay on `base`, of `size` bytes (default: the base's).

    `full` allocates all space at once. Raises HostError; nothing is left when it does.
    """
    _refuse_smaller(base, size)
    wanted = size or (base.size if base else 0)
    if full:
        _need_space(path.parent, wanted, f"a full disk of {show_size(wanted)}", 'say allocation = "thin"')
    command = [_tool(), "create", "-q", "-f", "qcow2", "-o", f"preallocation={'falloc' if full else 'off'}"]
    if base:
        command += ["-b", str(base.path), "-F", base.format]
    with _whole(path) as temporary:
        _run([*command, str(temporary), str(wanted)], f"cannot make the disk {path}")


def copy(base: Image, path: Path, *, size: int | None, full: bool, progress: Callable[[float], None]) -> None:
    """Make a qcow2 disk with the contents of `base` that stands alone, whatever the image's format.

    `progress` is told the share that is done, up to 1. Raises HostError; nothing is left when it does.
    """
    _refuse_smaller(base, size)
    wanted = size or base.size
    if full:
        _need_space(path.parent, wanted, f"a full copy of {show_size(wanted)}", 'say allocation = "thin"')
    else:
        holds = _facts(base.path).get("actual-size", 0)
        _need_space(path.parent, holds, f"a copy of {base.path.name} ({show_size(holds)} of contents)", "")
    command = [_tool(), "convert", "-p", "-f", base.format, "-O", "qcow2"]
    with _whole(path) as temporary:
        child = subprocess.Popen(
            [*command, str(base.path), str(temporary)], stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True
        )
        assert child.stdout and child.stderr
        # It says "    (12.34/100%)" and goes back to the line's start.
        word = ""
        while piece := child.stdout.read(1):
            word = "" if piece in "\r\n" else word + piece
            if word.endswith("/100%)"):
                progress(float(word.strip(" (").removesuffix("/100%)")) / 100)
        words = child.stderr.read()
        if child.wait():
            raise HostError(f"cannot copy {base.path}", why=words.strip().removeprefix("qemu-img: "))
        if full or wanted > base.size:
            grow = [_tool(), "resize", "-q", *(["--preallocation=falloc"] if full else [])]
            _run([*grow, str(temporary), str(wanted)], f"cannot make the disk {path}")


def _refuse_smaller(base: Image | None, size: int | None) -> None:
    if base and size and size < base.size:
        raise HostError(
            f"a disk of {show_size(size)} is smaller than its image ({show_size(base.size)})",
            remedy=f'size = "{show_size(base.size)}" or more',
        )


def _need_space(folder: Path, wanted: int, what: str, instead: str) -> None:
    """Raises HostError when `wanted` bytes are not free, before anything is written."""
    usage = os.statvfs(folder)
    free = usage.f_bavail * usage.f_frsize
    if wanted > free:
        remedy = "free some space" + (f", or {instead}" if instead else ", or name a storage that has it")
        raise HostError(f"no space for {what} in {folder}", why=f"{show_size(free)} is free", remedy=remedy)


def _run(command: list[str], failed: str) -> None:
    done = subprocess.run(command, capture_output=True, text=True, check=False)
    if done.returncode:
        raise HostError(failed, why=done.stderr.strip().removeprefix("qemu-img: "))


@contextlib.contextmanager
def _whole(path: Path) -> Iterator[Path]:
    """A temporary file that becomes `path` when all went well, and is gone otherwise."""
    temporary = path.with_name(f".{path.name}.{os.getpid()}.part")
    try:
        yield temporary
        fd = os.open(temporary, os.O_RDONLY)
        try:
            os.fsync(fd)
        finally:
            os.close(fd)
        # A link, not a rename: should two commands meet here after all, the first one's disk stays.
        with contextlib.suppress(FileExistsError):
            os.link(temporary, path)
    finally:
        with contextlib.suppress(OSError):
            temporary.unlink()
