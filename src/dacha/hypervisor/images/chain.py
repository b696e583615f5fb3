"""The backing images of each disk, recorded when it is created: a start opens the recorded ones, and refuses a disk
whose header differs.

A guest's process can write to its own disk's header; the record is beside the disk, in a folder that it cannot
enter.
"""

from __future__ import annotations

import contextlib
import json
import os
from pathlib import Path

from dacha.core.errors import HostError
from dacha.core.named import NamedTuple
from dacha.core.sha256 import sha256
from dacha.formats.disk import qcow2
from dacha.host.files import replace_file
from dacha.host.records import parse
from dacha.hypervisor.images import images, passphrases
from dacha.hypervisor.images.image_tool import Image
from dacha.hypervisor.images.passphrases import ASK

VERSION = 1


# How much of an image is compared to recognize it, and in how many places.
SAMPLE, SAMPLES = 4096, 32


class Seen(NamedTuple):
    """An image as it was when a disk was created on it: its modification time (nanoseconds since 1970), and a digest
    that identifies it; "" in a record of an older Dacha."""

    changed: int = 0
    content: str = ""


class Noted(NamedTuple):
    """A disk's record: the name of its backing image as in its header, that one's format, every backing file, and where
    its passphrase comes from if it is encrypted (`passphrases.py`)."""

    backing: str | None
    backing_format: str | None
    below: tuple[tuple[Path, str], ...]
    seen: tuple[Seen, ...] = ()
    passphrase: str | None = None


def note_file(disk: Path) -> Path:
    return disk.with_suffix(".json")


def note(disk: Path, passphrase: str | None = None) -> Noted:
    """Record a disk's present backing images, and the source of its passphrase (None: the recorded one). Raises
    HostError."""
    own = images.header(disk)
    if own.encrypted and passphrase is None:
        with contextlib.suppress(HostError):
            passphrase = (known := _noted(disk)) and known.passphrase
        passphrase = passphrase or ASK
    files = tuple(images.chain(disk)[1:])
    source = passphrase if own.encrypted else None
    noted = Noted(own.backing, own.backing_format, files, tuple(_seen(file) for file, _ in files), source)
    below = [
        {"file": str(file), "format": form, **seen._asdict()}
        for (file, form), seen in zip(noted.below, noted.seen, strict=True)
    ]
    record = {"version": VERSION, "backing": own.backing, "backing_format": own.backing_format, "below": below}
    record |= {"passphrase": source} if source else {}
    replace_file(note_file(disk), json.dumps(record, indent=1), mode=0o600)
    return noted


def _noted(disk: Path) -> Noted | None:
    try:
        raw = parse(note_file(disk).read_text())
        if raw["version"] > VERSION:
            raise HostError(f"{note_file(disk)} was written by a newer dacha", remedy="use that newer version")
        below = tuple((Path(row["file"]), str(row["format"])) for row in raw["below"])
        seen = tuple(Seen(int(row.get("changed", 0)), str(row.get("content", ""))) for row in raw["below"])
        return Noted(raw["backing"], raw["backing_format"], below, seen, raw.get("passphrase"))
    except FileNotFoundError:
        return None
    except (OSError, ValueError, KeyError, TypeError) as e:
        raise HostError(
            f"{note_file(disk)} cannot be read", why=str(e), remedy="move it away, and Dacha creates it again"
        ) from e


def layers(disk: Path) -> list[tuple[Path, str]]:
    """A disk's image and its backing images, each with its format, as recorded. A disk of an older Dacha has no record
    and gets one. Raises HostError if the disk's header refers to another image than before."""
    own, noted = images.header(disk), _noted(disk)
    if noted is None:
        noted = note(disk)
    if own.format != "qcow2" or (own.backing, own.backing_format) != (noted.backing, noted.backing_format):
        raise HostError(
            f"the header of disk {disk} was changed outside its guest: it refers to another backing file",
            why=f"it was created on {noted.backing or 'nothing'}, and now refers to "
            f"{(own.backing or 'nothing')[:200]!r}",
            remedy=f"if you did this, remove {note_file(disk)}; else do not use this disk",
        )
    if own.encrypted is not bool(noted.passphrase):
        raise HostError(
            f"the header of disk {disk} was changed outside its guest: it is {'now' if own.encrypted else 'no longer'} "
            "encrypted",
            remedy=f"if you did this, remove {note_file(disk)}; else do not use this disk",
        )
    for (file, _), seen in zip(noted.below, noted.seen, strict=True):
        if seen.content and _changed(file, seen):
            raise HostError(
                f"the image {file} is not the one that {disk.name} was created on",
                why="the disk stores only the differences to the original image: with another image it is not readable",
                remedy=f"restore that image; or, if its contents are unchanged, remove {note_file(disk)}",
            )
    return [(disk, "qcow2"), *noted.below]


def passphrase_source(disk: Path) -> str | None:
    """Where the passphrase of a disk comes from, as recorded; None if it is not encrypted. Raises HostError."""
    noted = _noted(disk)
    return noted.passphrase if noted else None


def key(disk: Path) -> bytes | None:
    """The passphrase of a guest's disk; None if it is not encrypted. Raises HostError, AnswerNo."""
    source = passphrase_source(disk)
    return passphrases.passphrase(source, words(disk)) if source else None


def words(disk: Path) -> str:
    """A guest's disk in words, from its path in the state folder."""
    return f"disk {disk.stem.removeprefix('disk-')} of {disk.parent.name}"


def made_on(disk: Path, file: Path) -> bool:
    """True if `file` has the content of the image that the disk was created on, wherever it is now; False if that was
    not recorded, or is not readable."""
    noted = _noted(disk)
    try:
        return bool(noted and noted.seen and noted.seen[0].content == _content(file))
    except OSError:
        return False


def _seen(file: Path) -> Seen:
    return Seen(file.stat().st_mtime_ns, _content(file))


def _changed(file: Path, seen: Seen) -> bool:
    """True for a file with other content, as far as it is compared; a missing one is reported elsewhere."""
    try:
        return file.stat().st_mtime_ns != seen.changed and _content(file) != seen.content
    except OSError:
        return False


def _content(file: Path) -> str:
    """A digest of a file: its length, and samples from everywhere."""
    told = sha256()
    with file.open("rb") as f:
        size = f.seek(0, os.SEEK_END)
        told.update(str(size).encode())
        for n in range(SAMPLES):
            f.seek(max(0, (size - SAMPLE) * n // (SAMPLES - 1)))
            told.update(f.read(SAMPLE))
    return told.hexdigest()[:32]


def as_image(disk: Path, secret: bytes | None = None) -> Image:
    """A disk of a guest for QEMU's tools, which then open only what was recorded; `secret` is its passphrase if its
    contents are needed."""
    files = layers(disk)
    with disk.open("rb") as f:
        head = qcow2.decode(f.read(qcow2.HEAD))
    return Image(disk, "qcow2", head.size if head else 0, tuple(file for file, _ in files), secret)
