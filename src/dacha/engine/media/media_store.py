"""The media store: installer media and images under short names, added atomically, the same content only once.

A store is a folder; each medium is a file NAME.iso or NAME.img, with its facts in NAME.json, written last.
"""

from __future__ import annotations

import contextlib
import hashlib
import json
import os
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any, BinaryIO

from dacha.core.errors import AnswerNo, BusyError, UsageError
from dacha.core.lab.model import Lab
from dacha.core.named import NamedTuple
from dacha.core.spelling import did_you_mean
from dacha.core.units import show_size
from dacha.engine.media.media_facts import inspect
from dacha.host import folders
from dacha.host.files import folder_held, held, locked, refused, replace_file
from dacha.host.records import parse

# Large enough for efficient hashing and copying, small enough for memory.
CHUNK = 4 << 20
MAIN = "main"
# Called with the bytes done and the total (None: unknown).
Progress = Callable[[int, int | None], None]


class Kept(NamedTuple):
    """A medium in a store: its short name, file, size and SHA-256, its facts, and the catalogue's entry that it came
    from."""

    name: str
    storage: str
    path: Path
    size: int
    sha256: str
    facts: dict[str, Any]
    place: str = ""

    def words(self) -> str:
        """A description: "debian 12.5.0, amd64, boots by BIOS and UEFI"."""
        f = self.facts
        system = " ".join(x for x in (f.get("family"), f.get("version")) if x) or "unknown system"
        if f.get("kind") == "iso":
            ways = [w for w, on in (("BIOS", f.get("bios")), ("UEFI", f.get("uefi"))) if on]
            boots = "boots by " + " and ".join(ways) if ways else "does not boot"
            return ", ".join(x for x in (system, f.get("architecture"), boots) if x)
        if f.get("kind") == "disk":
            ways = [w for w, on in (("BIOS", f.get("bios")), ("UEFI", f.get("uefi"))) if on]
            boots = "boots by " + " and ".join(ways) if ways else "no boot loader"
            return f"{f.get('format')} disk of {show_size(f.get('virtual_size', 0))}, {boots}"
        return "unknown"


class Partial(NamedTuple):
    """An incomplete download: its intended name, its file, its size, and its origin."""

    name: str
    storage: str
    path: Path
    size: int
    url: str


class Store:
    """The stores in a lab file, and the main one that every user has."""

    def __init__(self, lab: Lab | None) -> None:
        self.folders: dict[str, Path] = {MAIN: folders.state() / "media"}
        for name, path in (lab.storages if lab else {}).items():
            self.folders[name] = folders.expand(path) / "media"

    def places(self) -> list[Path]:
        """The folders that media are in."""
        return list(self.folders.values())

    def all(self) -> list[Kept]:
        """Every medium, by name."""
        found = []
        for storage, folder in self.folders.items():
            for facts in sorted(folder.glob("*.json")) if folder.is_dir() else ():
                try:
                    raw = parse(facts.read_text())
                    kept = Kept(
                        facts.stem, storage, folder / raw["file"], raw["size"], raw["sha256"], raw["facts"],
                        str(raw.get("place", "")),
                    )  # fmt: skip
                except (OSError, ValueError, KeyError, TypeError):
                    continue
                if kept.path.is_file():
                    found.append(kept)
        return sorted(found)

    def find(self, name: str) -> Kept | None:
        return next((k for k in self.all() if k.name == name), None)

    def need(self, name: str) -> Kept:
        """The medium of that name. Raises UsageError with the most similar one."""
        kept = self.find(name)
        if kept is None:
            raise UsageError(
                f"no medium {name} exists",
                remedy=did_you_mean(name, [k.name for k in self.all()], "add one: dacha media add FILE"),
            )
        return kept

    def folder(self, storage: str) -> Path:
        if storage not in self.folders:
            raise UsageError(f"no storage {storage} exists", remedy=did_you_mean(storage, self.folders))
        return folders.make_private(self.folders[storage])

    def add(
        self,
        source: BinaryIO,
        name: str,
        *,
        storage: str = MAIN,
        size: int | None = None,
        expected: str | None = None,
        part: Path | None = None,
        progress: Progress = lambda done, total: None,
        place: str = "",
    ) -> tuple[Kept, bool]:
        """Add everything from `source` under a short name; returns the medium, and whether it is new. `size` is the
        expected length; `part` an incomplete file that `source` continues. Raises UsageError (name in use), HostError
        (no space), AnswerNo (wrong checksum, truncated, not a medium): then nothing is stored."""
        folder = self.folder(storage)
        with contextlib.ExitStack() as writing:
            if part is None:  # a caller with its own file holds the name already
                writing.enter_context(self.writing(folder, name))
            return self._add(source, name, folder, storage, size, expected, part, progress, place)

    def _add(
        self,
        source: BinaryIO,
        name: str,
        folder: Path,
        storage: str,
        size: int | None,
        expected: str | None,
        part: Path | None,
        progress: Progress,
        place: str,
    ) -> tuple[Kept, bool]:
        self.refuse_in_use(name)
        own = part is None
        part = part or folder / f".{name}.{os.getpid()}.part"
        keep = not own  # the next attempt continues what a broken connection left
        try:
            try:
                total, digest = _copy(source, part, size, progress)
            except OSError as e:
                raise refused(part, e) from e
            if size is not None and total != size:
                what = f"{name} is truncated: {show_size(total)} of {show_size(size)} were received"
                raise AnswerNo(what, remedy="add it again")
            keep = False
            if expected and digest != expected.lower():
                raise AnswerNo(
                    f"{name} has a different checksum",
                    why=f"expected {expected.lower()}\nfound    {digest}",
                    remedy="download it again: it is damaged, or was replaced",
                )
            same = self._same(digest)
            if same:
                return same, False
            facts = inspect(part)
            problem = next(iter(facts.get("problems", ())), None)
            if problem:
                raise AnswerNo(f"{name} cannot be used: {problem}", remedy="use another one; nothing was stored")
            # Two commands may both have got this far: the second one finds the first one's name or contents.
            with folder_held(folder):
                same = self._same(digest)
                if same:
                    return same, False
                self.refuse_in_use(name)
                path = folder / (name + (".iso" if facts["kind"] == "iso" else ".img"))
                os.replace(part, path)
                record = {"file": path.name, "size": total, "sha256": digest, "facts": facts, "place": place}
                replace_file(folder / f"{name}.json", json.dumps(record, indent=1))
            return Kept(name, storage, path, total, digest, facts, place), True
        finally:
            if not keep:
                with contextlib.suppress(OSError):
                    part.unlink()

    def _same(self, digest: str) -> Kept | None:
        return next((k for k in self.all() if k.sha256 == digest), None)

    def refuse_in_use(self, name: str) -> None:
        """Raise UsageError if a medium has that name."""
        if name == "network":
            raise UsageError('with install = "network", a guest needs no medium', remedy="choose another: --name NAME")
        if self.find(name):
            raise UsageError(
                f"a medium {name} already exists", remedy="choose another: --name NAME, or dacha media remove it"
            )

    def remove(self, kept: Kept) -> None:
        """Remove a medium. The caller has checked that it is not in use."""
        with contextlib.suppress(OSError):
            (kept.path.parent / f"{kept.name}.json").unlink()
            kept.path.unlink()

    def partial(self) -> list[Partial]:
        """Incomplete downloads, by name, except those in progress."""
        found = []
        for storage, folder in self.folders.items():
            for part in sorted(folder.glob(".*.fetch")) if folder.is_dir() else ():
                name = part.name[1 : -len(".fetch")]
                try:
                    url = str(parse((folder / f"{part.name}-from").read_text())["url"])
                except (OSError, ValueError, KeyError, TypeError):
                    url = ""
                if not _being_added(folder, name):
                    found.append(Partial(name, storage, part, part.stat().st_size, url))
        return found

    def drop(self, partial: Partial) -> None:
        """Delete an incomplete download."""
        with self.writing(partial.path.parent, partial.name):
            partial.path.unlink(missing_ok=True)
            partial.path.with_name(f"{partial.path.name}-from").unlink(missing_ok=True)

    @contextlib.contextmanager
    def writing(self, folder: Path, name: str) -> Iterator[None]:
        """Hold the name of a medium while it is added. Raises BusyError with the other holder."""
        folders.make_run()
        try:
            with locked(_lock(folder, name), f"dacha media add {name}", 0.0, fleeting=True):
                yield
        except BusyError as e:
            what = f"{name} is already being added"
            raise BusyError(what, why=f"by {e.holder}", remedy="wait for it to end") from None

    def check(self, kept: Kept, progress: Progress = lambda done, total: None) -> str | None:
        """Verify a medium; what is wrong, or None if its content is unchanged."""
        digest = hashlib.sha256()
        done = 0
        with kept.path.open("rb") as f:
            for chunk in _chunks(f):
                digest.update(chunk)
                progress(done := done + len(chunk), kept.size)
        return (
            None
            if digest.hexdigest() == kept.sha256
            else f"its content has changed: SHA-256 is now {digest.hexdigest()}"
        )


def _lock(folder: Path, name: str) -> Path:
    """The lock of one name in one store. It is not in the store, which contains media only."""
    return folders.run() / f"media-{hashlib.sha256(str(folder / name).encode()).hexdigest()[:16]}.lock"


def _being_added(folder: Path, name: str) -> bool:
    """True while a command adds a medium of that name."""
    return held(_lock(folder, name))


def _chunks(f: BinaryIO) -> Iterator[memoryview]:
    buffer = bytearray(CHUNK)
    view = memoryview(buffer)
    while count := f.readinto(buffer):  # type: ignore[attr-defined]
        yield view[:count]


def _copy(source: BinaryIO, part: Path, size: int | None, progress: Progress) -> tuple[int, str]:
    """Append `source` to `part`; returns the length and SHA-256 of the whole file. Memory is limited to one chunk."""
    digest = hashlib.sha256()
    with part.open("ab+") as out:
        out.seek(0)
        total = 0
        for chunk in _chunks(out):
            digest.update(chunk)
            total += len(chunk)
        for chunk in _chunks(source):
            out.write(chunk)
            digest.update(chunk)
            progress(total := total + len(chunk), size)
        out.flush()
        os.fsync(out.fileno())
    return total, digest.hexdigest()
