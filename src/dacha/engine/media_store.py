"""The media store: installer media and images under short names, whole or not at all, the same content once.

A store is a folder; each medium in it is a file NAME.iso or NAME.img and its facts in NAME.json, written last.
"""

from __future__ import annotations

import contextlib
import hashlib
import json
import os
import re
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any, BinaryIO, NamedTuple

from dacha.core.errors import HostError, NoError, UsageError
from dacha.core.lab import Lab
from dacha.core.nearest import did_you_mean
from dacha.core.units import show_size
from dacha.formats.medium import Medium, inspect_iso, is_iso, looks_like_web_page
from dacha.host import folders
from dacha.host.files import folder_held, refused, replace_file

# Large enough that Python's own work is lost beside hashing and copying, small enough to stay out of the way.
CHUNK = 4 << 20
MAIN = "main"
# Told how many bytes are done and how many there are in all (None: not known).
Progress = Callable[[int, int | None], None]


class Kept(NamedTuple):
    """A medium in a store: its short name, its file, its size and SHA-256, and what it is."""

    name: str
    storage: str
    path: Path
    size: int
    sha256: str
    facts: dict[str, Any]

    def words(self) -> str:
        """What it is, in words: "debian 12.5.0, amd64, boots by BIOS and UEFI"."""
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


class Store:
    """The stores that a lab names, and the main one that every user has."""

    def __init__(self, lab: Lab | None) -> None:
        self.folders: dict[str, Path] = {MAIN: folders.state() / "media"}
        for name, path in (lab.storages if lab else {}).items():
            self.folders[name] = Path(path).expanduser() / "media"

    def places(self) -> list[Path]:
        """The folders that media are in."""
        return list(self.folders.values())

    def all(self) -> list[Kept]:
        """Every medium, by name."""
        found = []
        for storage, folder in self.folders.items():
            for facts in sorted(folder.glob("*.json")) if folder.is_dir() else ():
                try:
                    raw = json.loads(facts.read_text())
                    kept = Kept(facts.stem, storage, folder / raw["file"], raw["size"], raw["sha256"], raw["facts"])
                except (OSError, ValueError, KeyError):
                    continue
                if kept.path.is_file():
                    found.append(kept)
        return sorted(found)

    def find(self, name: str) -> Kept | None:
        return next((k for k in self.all() if k.name == name), None)

    def need(self, name: str) -> Kept:
        """The medium of that name. Raises UsageError with the nearest one."""
        kept = self.find(name)
        if kept is None:
            raise UsageError(
                f"there is no medium {name}",
                remedy=did_you_mean(name, [k.name for k in self.all()], "add one: dacha media add FILE"),
            )
        return kept

    def folder(self, storage: str) -> Path:
        if storage not in self.folders:
            raise UsageError(f"there is no storage {storage}", remedy=did_you_mean(storage, self.folders))
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
    ) -> tuple[Kept, bool]:
        """Take in everything `source` has under a short name; answers the medium, and whether it is new.

        `size` is how much is expected; `part` an already begun file that `source` continues. Raises UsageError
        (name taken), HostError (no space), NoError (wrong checksum, cut short, not a medium): then nothing is kept.
        """
        folder = self.folder(storage)
        self._refuse_taken(name)
        own = part is None
        part = part or folder / f".{name}.{os.getpid()}.part"
        keep = not own  # what a broken connection left is continued by the next try
        try:
            try:
                total, digest = _copy(source, part, size, progress)
            except OSError as e:
                raise refused(part, e) from e
            if size is not None and total != size:
                what = f"{name} is cut short: {show_size(total)} of {show_size(size)} came"
                raise NoError(what, remedy="add it again")
            keep = False
            if expected and digest != expected.lower():
                raise NoError(
                    f"{name} has another checksum than expected",
                    why=f"expected {expected.lower()}\nfound    {digest}",
                    remedy="get it again: it is damaged, or not what it claims to be",
                )
            same = self._same(digest)
            if same:
                return same, False
            facts = inspect(part)
            problem = next(iter(facts.get("problems", ())), None)
            if problem:
                raise NoError(f"{name} cannot be used: {problem}", remedy="get another; nothing was kept")
            # Two at once may both have come so far: the second to be done finds the first one's name or contents.
            with folder_held(folder):
                same = self._same(digest)
                if same:
                    return same, False
                self._refuse_taken(name)
                path = folder / (name + (".iso" if facts["kind"] == "iso" else ".img"))
                os.replace(part, path)
                record = {"file": path.name, "size": total, "sha256": digest, "facts": facts}
                replace_file(folder / f"{name}.json", json.dumps(record, indent=1))
            return Kept(name, storage, path, total, digest, facts), True
        finally:
            if not keep:
                with contextlib.suppress(OSError):
                    part.unlink()

    def _same(self, digest: str) -> Kept | None:
        return next((k for k in self.all() if k.sha256 == digest), None)

    def _refuse_taken(self, name: str) -> None:
        if self.find(name):
            raise UsageError(
                f"there is a medium {name} already", remedy="choose another: --name NAME, or dacha media remove it"
            )

    def remove(self, kept: Kept, users: list[str]) -> None:
        """Remove a medium that nobody uses. Raises UsageError naming who does."""
        if users:
            raise UsageError(
                f"medium {kept.name} is used by {', '.join(users[:5])}",
                remedy="take it out there first: dacha media eject",
            )
        with contextlib.suppress(OSError):
            (kept.path.parent / f"{kept.name}.json").unlink()
            kept.path.unlink()

    def check(self, kept: Kept, progress: Progress = lambda done, total: None) -> str | None:
        """Read a medium again; what is wrong with it, or None when its content is what was added."""
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


def _chunks(f: BinaryIO) -> Iterator[memoryview]:
    buffer = bytearray(CHUNK)
    view = memoryview(buffer)
    while count := f.readinto(buffer):  # type: ignore[attr-defined]
        yield view[:count]


def _copy(source: BinaryIO, part: Path, size: int | None, progress: Progress) -> tuple[int, str]:
    """Append `source` to `part`; the whole file's length and SHA-256. Memory stays one chunk."""
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


def inspect(path: Path) -> dict[str, Any]:
    """What a file is, as plain data: an ISO medium, a disk image, or neither (then with the problem)."""
    from dacha.formats.boot_sectors import boot_sectors
    from dacha.hypervisor import images

    size = path.stat().st_size
    with path.open("rb") as f:
        head = f.read(4096)
        if looks_like_web_page(head):
            return {"kind": "unknown", "problems": ["it is a web page, not a medium"]}
        if is_iso(f):
            return medium_data(inspect_iso(f, size))
    try:
        below = images.header(path).backing
        if below:
            return {"kind": "unknown", "problems": [f"it is only an overlay: its base {below} lies elsewhere"]}
        image = images.inspect(path)
    except HostError as e:
        return {"kind": "unknown", "problems": [e.why or e.what]}
    problem = images.damage(image)
    sectors = boot_sectors(images.first_sectors(image))
    problems = [problem] if problem else []
    return {
        "kind": "disk",
        "format": image.format,
        "virtual_size": image.size,
        "table": sectors.table,
        "bios": sectors.bios,
        "uefi": sectors.uefi,
        "problems": problems,
    }


def medium_data(medium: Medium) -> dict[str, Any]:
    return medium._asdict() | {"problems": list(medium.problems)}


def short_name(source: str) -> str:
    """A short name from a file name or address: debian-12.5.0-amd64-netinst.iso is debian-12-5-0-amd64-netinst."""
    stem = re.sub(r"\.(iso|img|qcow2|raw|vmdk|vdi|vhdx)$", "", source.rstrip("/").rpartition("/")[2].lower())
    return re.sub(r"[^a-z0-9]+", "-", stem).strip("-")[:40].strip("-") or "medium"


def expected_sum(text: str, file_name: str) -> str | None:
    """The SHA-256 that a checksum file states for `file_name`, in either usual form; None when it has none."""
    for line in text.splitlines():
        gnu = re.match(r"([0-9a-fA-F]{64})\s+[ *]?(\S.*)$", line.strip())
        bsd = re.match(r"SHA256 \((.+)\) = ([0-9a-fA-F]{64})$", line.strip())
        name, value = (gnu[2], gnu[1]) if gnu else (bsd[1], bsd[2]) if bsd else ("", "")
        if name.rpartition("/")[2] == file_name:
            return value.lower()
    alone = re.fullmatch(r"\s*([0-9a-fA-F]{64})\s*", text)
    return alone[1].lower() if alone else None
