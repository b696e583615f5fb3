"""Disk images, examined by their headers and by QEMU's own image tool."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterable
from pathlib import Path
from typing import Any

from dacha.core.errors import HostError, PeerError
from dacha.formats.disk.boot_sectors import SECTORS
from dacha.formats.disk.disk_image import DiskImage, judge
from dacha.host import confine
from dacha.host.accounts import helper
from dacha.hypervisor.images.image_tool import Image, tool, words_of

FORMATS = ("qcow2", "raw", "vmdk", "vdi", "vhdx", "vpc")
# Formats that a disk can be an overlay on; images of other hypervisors are converted into a disk.
CLONABLE = ("qcow2", "raw")
# The limit of backing chains: deeper ones are slow to read, and a circle never ends.
DEEPEST = 40


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
    if header(path).encrypted:
        raise HostError(
            f"the image {path} is encrypted", why="only an unencrypted image can be a base",
            remedy="use an image that is not encrypted",
        )  # fmt: skip
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
        raise HostError(f"{path} cannot be read as an image", why=words_of(err))
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
    import tempfile

    with tempfile.TemporaryDirectory(prefix="dacha-sectors-") as folder:
        out = Path(folder) / "sectors"
        out.touch()
        command = [tool(), "dd", "-U", "-f", image.format, "-O", "raw", "bs=512", f"count={count}",
                   f"if={image.path}", f"of={out}"]  # fmt: skip
        if confine.run(command, helper(), read=image.files, write=[Path(folder)])[0]:
            return b""
        return out.read_bytes()
