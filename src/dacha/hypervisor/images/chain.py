"""What each disk lies on, noted when it is made: a start opens what was noted, and refuses a disk that says otherwise.

A guest's process may write to its own disk's header; the note lies beside the disk, in a folder that it cannot enter.
"""

from __future__ import annotations

import json
from pathlib import Path

from dacha.core.errors import HostError
from dacha.core.named import NamedTuple
from dacha.formats import qcow2
from dacha.host.files import replace_file
from dacha.hypervisor.images import images

VERSION = 1


class Noted(NamedTuple):
    """A disk's note: the name of the image below it as its header has it, that one's format, and every file below."""

    backing: str | None
    backing_format: str | None
    below: tuple[tuple[Path, str], ...]


def note_file(disk: Path) -> Path:
    return disk.with_suffix(".json")


def note(disk: Path) -> Noted:
    """Note what a disk lies on now. Raises HostError."""
    own = images.header(disk)
    noted = Noted(own.backing, own.backing_format, tuple(images.chain(disk)[1:]))
    below = [{"file": str(file), "format": form} for file, form in noted.below]
    record = {"version": VERSION, "backing": own.backing, "backing_format": own.backing_format, "below": below}
    replace_file(note_file(disk), json.dumps(record, indent=1), mode=0o600)
    return noted


def _noted(disk: Path) -> Noted | None:
    try:
        raw = json.loads(note_file(disk).read_text())
        if raw["version"] > VERSION:
            raise HostError(f"{note_file(disk)} was written by a newer dacha", remedy="use that version")
        below = tuple((Path(row["file"]), str(row["format"])) for row in raw["below"])
        return Noted(raw["backing"], raw["backing_format"], below)
    except FileNotFoundError:
        return None
    except (OSError, ValueError, KeyError, TypeError) as e:
        raise HostError(
            f"{note_file(disk)} cannot be read", why=str(e), remedy="move it away to have it made again"
        ) from e


def layers(disk: Path) -> list[tuple[Path, str]]:
    """A disk's image and every one below it, each with its format, as they were noted. A disk of an older dacha has no
    note and gets one. Raises HostError when the disk's header names another image than it did."""
    own, noted = images.header(disk), _noted(disk)
    if noted is None:
        noted = note(disk)
    if own.format != "qcow2" or (own.backing, own.backing_format) != (noted.backing, noted.backing_format):
        raise HostError(
            f"the disk {disk} was changed from outside its guest's system: it names another file below it",
            why=f"it was made on {noted.backing or 'nothing'}, and now says {(own.backing or 'nothing')[:200]!r}",
            remedy=f"if it was you, remove {note_file(disk)}; else keep it away from any program",
        )
    return [(disk, "qcow2"), *noted.below]


def as_image(disk: Path) -> images.Image:
    """A disk of a guest for QEMU's tools, which then open what was noted and no more."""
    files = layers(disk)
    with disk.open("rb") as f:
        head = qcow2.decode(f.read(qcow2.HEAD))
    return images.Image(disk, "qcow2", head.size if head else 0, tuple(file for file, _ in files))
