"""The archives that one with changes only builds on."""

from __future__ import annotations

import contextlib
import time
from collections.abc import Iterator
from pathlib import Path

from dacha.core.archive.manifest import Manifest
from dacha.core.errors import AnswerNo, DachaError
from dacha.core.named import NamedTuple
from dacha.engine.archive.reading import Archive
from dacha.host.files import refused

# So many files of a folder are looked at.
MOST = 10_000


class Earlier(NamedTuple):
    """An archive that another one builds on: its file, and its description."""

    file: Path
    manifest: Manifest


def earlier(file: Path | None, manifest: Manifest) -> list[Earlier]:
    """The archives that this one builds on, the whole one first: from the folder of its `file`. Raises AnswerNo if one
    is not there, or it was read from a pipe (None)."""
    if not manifest.base:
        return []
    if file is None:
        raise AnswerNo(
            f"the archive has only what changed since {_when(manifest.since)}",
            remedy="load it from its file, in a folder with the archives before it",
        )
    found: list[Earlier] = []
    there = {e.manifest.id: e for e in _in_folder(file.resolve().parent)}
    below = manifest
    while below.base:
        base = there.get(below.base)
        if base is None or base.manifest.depth != below.depth - 1:
            folder = file.resolve().parent
            raise AnswerNo(
                f"an archive is missing in {folder}: the one of {below.guest} from {_when(below.since)}",
                why=f"{file.name} builds on it, and has only what changed",
                remedy="copy it into that folder, under any name that ends in .guest",
            )
        if {d.name for d in base.manifest.disks} != {d.name for d in manifest.disks}:
            raise AnswerNo(f"{base.file.name} is of other disks than {file.name}, which builds on it")
        found.insert(0, base)
        below = base.manifest
    return found


@contextlib.contextmanager
def opened(base: Earlier) -> Iterator[Archive]:
    """The archive, from its beginning. What is wrong with it is told with its file. Raises AnswerNo, HostError."""
    try:
        with base.file.open("rb") as stream:
            archive = Archive(stream)
            if archive.manifest != base.manifest:
                raise AnswerNo("it changed while it was read")
            yield archive
    except AnswerNo as e:
        raise AnswerNo(f"{base.file}: {e.what}", why=e.why, remedy=e.remedy) from e
    except OSError as e:
        raise refused(base.file, e) from e


def _in_folder(folder: Path) -> Iterator[Earlier]:
    for n, path in enumerate(folder.glob("*.guest")):
        if n >= MOST:
            return
        with contextlib.suppress(DachaError, OSError):
            if path.is_file():
                with path.open("rb") as stream:
                    yield Earlier(path, Archive(stream).manifest)


def _when(at: float) -> str:
    return time.strftime("%Y-%m-%d %H:%M:%S", time.localtime(at))
