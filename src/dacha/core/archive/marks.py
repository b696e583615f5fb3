"""The bitmaps by which QEMU tells what changed on a disk since an archive (QEMU documentation: interop/bitmaps)."""

from __future__ import annotations

from dacha.core.named import NamedTuple

# Names of the bitmaps, before the identifier of the archive whose moment they began at.
PREFIX = "archive-"


class Marks(NamedTuple):
    """The identifiers of a new archive, whose bitmaps begin with it, and of the one that it has the changes since;
    empty for none."""

    new: str = ""
    since: str = ""


NO_MARKS = Marks()


def bitmap(archive: str) -> str:
    """The name of the bitmaps that began with an archive."""
    return PREFIX + archive
