"""Disk images, by QEMU's own image tool. A disk is made whole or not at all."""

from __future__ import annotations

import contextlib
import json
import os
import subprocess
import tempfile
from pathlib import Path
from typing import Any, NamedTuple

from dacha.core.errors import HostError
from dacha.core.units import show_size
from dacha.formats.boot_sectors import SECTORS
from dacha.host.facts import program

FORMATS = ("qcow2", "raw", "vmdk", "vdi", "vhdx", "vpc")


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
    done = subprocess.run([_tool(), "resize", "-q", str(path), str(size)], capture_output=True, text=True, check=False)
    if done.returncode:
        raise HostError(f"cannot grow the disk {path}", why=done.stderr.strip().removeprefix("qemu-img: "))


def create(path: Path, *, size: int | None, base: Image | None, full: bool) -> None:
    """Make a qcow2 disk: empty, or a copy-on-write overlay on `base`, of `size` bytes (default: the base's).

    `full` allocates all space at once. Raises HostError; nothing is left when it does.
    """
    if base and size and size < base.size:
        raise HostError(
            f"a disk of {show_size(size)} is smaller than its image ({show_size(base.size)})",
            remedy=f'size = "{show_size(base.size)}" or more',
        )
    wanted = size or (base.size if base else 0)
    if full:
        usage = os.statvfs(path.parent)
        if wanted > usage.f_bavail * usage.f_frsize:
            raise HostError(
                f"no space for a full disk of {show_size(wanted)} in {path.parent}",
                why=f"{show_size(usage.f_bavail * usage.f_frsize)} is free",
                remedy='free some space, or say allocation = "thin"',
            )
    temporary = path.with_name(f".{path.name}.{os.getpid()}.part")
    options = [f"preallocation={'falloc' if full else 'off'}"]
    command = [_tool(), "create", "-q", "-f", "qcow2"]
    if base:
        command += ["-b", str(base.path), "-F", base.format]
    command += ["-o", ",".join(options), str(temporary), str(wanted)]
    try:
        done = subprocess.run(command, capture_output=True, text=True, check=False)
        if done.returncode:
            raise HostError(f"cannot make the disk {path}", why=done.stderr.strip().removeprefix("qemu-img: "))
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
