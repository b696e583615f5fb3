"""Remove from a raw image what belongs to one guest alone, without starting or mounting it."""

from __future__ import annotations

import fnmatch
import os
import tempfile
from collections.abc import Iterable, Iterator
from pathlib import Path

from dacha.core.errors import AnswerNo
from dacha.core.inside.identity import FIRST_BOOT, HOME, NO_FIRST_BOOT, ROWS, Row, homes, locked, mounts
from dacha.core.named import NamedTuple
from dacha.formats.disk.partitions import HEAD, Partition, ext_names, partitions
from dacha.host.files import refused
from dacha.host.sparse_copy import copy_part, free_part
from dacha.hypervisor.images import ext
from dacha.hypervisor.images.ext import Entry, Tree

# The first block of a swap area is its header (mkswap(8)); the rest is memory that was swapped out.
_SWAP_HEADER = 4096
# Deeper folders are not emptied.
_DEEPEST = 12
_WORDS = {
    "xfs": "XFS", "btrfs": "Btrfs", "luks": "encrypted", "lvm": "LVM", "ntfs": "NTFS", "bitlocker": "encrypted",
    "ufs": "UFS", "swap": "swap", "fat": "FAT", "": "unknown contents",
}  # fmt: skip
ODD_NAME = "its name has characters that cannot be handled"
INSTEAD = "prepare it in the guest by its system's own means, and store the image as it is: --as-it-is"


class Cleaned(NamedTuple):
    """What was removed, in words; and what is still in the image, each with the reason."""

    removed: tuple[str, ...]
    left: tuple[tuple[str, str], ...]


def clean(image: Path) -> Cleaned:
    """Clean a raw image; files are created beside it. Raises AnswerNo if its system cannot be cleaned, HostError; then
    it may be half clean."""
    try:
        return _cleaned(image)
    except OSError as e:
        raise refused(image, e, "prepare") from e


def _cleaned(image: Path) -> Cleaned:
    with image.open("r+b") as f:
        fd = f.fileno()
        size = os.fstat(fd).st_size
        # A table of partitions may lead anywhere.
        found = partitions(lambda at, length: os.pread(fd, length, at) if at < size else b"", size)
        swap = [part for part in found if part.holds == "swap"]
        for part in swap:
            free_part(fd, part.start + _SWAP_HEADER, part.size - _SWAP_HEADER)
        # Each file system is a file of its own meanwhile: e2fsck cannot replay the journal of one within a file.
        trees = [(part, Tree(_extracted(image, fd, part))) for part in found if part.holds == "ext"]
        for _, tree in trees:
            tree.check()
        files, left = _mounted(found, trees)
        removed = _Cleaning(files, left).run()
        for part, tree in trees:
            tree.check(discard=True)
            _put_back(tree.image, fd, part)
    return Cleaned((*removed, *(["contents of the swap partition"] if swap else [])), tuple(left))


def _extracted(image: Path, fd: int, part: Partition) -> Path:
    """A file with the contents of a partition."""
    file = image.with_name(f"{image.name}.{part.number}")
    with file.open("xb") as f:
        f.truncate(part.size)
        copy_part(fd, part.start, f.fileno(), 0, part.size)
    return file


def _put_back(file: Path, fd: int, part: Partition) -> None:
    free_part(fd, part.start, part.size)
    with file.open("rb") as f:
        copy_part(f.fileno(), 0, fd, part.start, part.size)
    file.unlink()


class _Files:
    """The file systems of a disk, as one tree."""

    def __init__(self, mounted: dict[str, Tree]) -> None:
        self._mounted = mounted

    def _place(self, path: str) -> tuple[Tree, str]:
        """The file system that has a path, and the path in it."""
        where = max((m for m in self._mounted if m == "/" or path == m or path.startswith(f"{m}/")), key=len)
        return self._mounted[where], path if where == "/" else path[len(where) :] or "/"

    def listed(self, folders: Iterable[str]) -> dict[str, list[Entry]]:
        asked: dict[Tree, dict[str, str]] = {}
        for folder in folders:
            tree, inner = self._place(folder)
            asked.setdefault(tree, {})[inner] = folder
        return {names[i]: rows for tree, names in asked.items() for i, rows in tree.listed(list(names)).items()}

    def read(self, path: str) -> str | None:
        tree, inner = self._place(path)
        return tree.read(inner)

    def change(self, changes: Iterable[tuple[str, str]]) -> None:
        """Carry out changes: each a path and what is done with it ("delete", "rmdir", "empty")."""
        by_tree: dict[Tree, list[str]] = {}
        for path, how in changes:
            tree, inner = self._place(path)
            done = {"delete": (ext.delete(inner),), "rmdir": (ext.delete_folder(inner),)}
            by_tree.setdefault(tree, []).extend(done.get(how) or ext.empty(inner))
        for tree, commands in by_tree.items():
            tree.change(commands)

    def replace(self, path: str, entry: Entry, text: str) -> None:
        tree, inner = self._place(path)
        with tempfile.NamedTemporaryFile("w", prefix="dacha-file-", errors="surrogateescape") as content:
            content.write(text)
            content.flush()
            tree.change(ext.replace(inner, entry, Path(content.name)), read=[Path(content.name)])


def _mounted(found: list[Partition], trees: list[tuple[Partition, Tree]]) -> tuple[_Files, list[tuple[str, str]]]:
    """The file systems by where the guest mounts them; and what on the disk cannot be cleaned."""
    root = next((t for _, t in trees if "passwd" in {e.name for e in t.listed(["/etc"]).get("/etc", [])}), None)
    if root is None:
        raise AnswerNo(
            "no Linux system on ext2, ext3 or ext4 was found on this disk: only such a system can be cleaned",
            why=", ".join(map(_described, found)) or "the disk has no partition and no known file system",
            remedy=INSTEAD,
        )
    where = mounts(_Files({"/": root}).read("/etc/fstab") or "")
    mounted, left = {"/": root}, []
    for part, tree in trees:
        if tree is root:
            continue
        with tree.image.open("rb") as f:
            names = ext_names(f.read(HEAD))
        place = where.get(f"UUID={names.uuid}") or where.get(f"LABEL={names.label}")
        if place and place.startswith("/"):
            mounted[place.rstrip("/") or "/"] = tree
        else:
            left.append((f"partition {part.number}", "the guest's /etc/fstab has no mount point for it"))
    for part in found:
        if part.holds not in ("ext", "swap", "fat"):
            left.append((f"partition {part.number}", f"{_words(part)} cannot be cleaned"))
    left += [(file, "a swap file: it may have contents of memory") for file, at in where.items()
             if at == "swap" and file.startswith("/") and not file.startswith("/dev/")]  # fmt: skip
    return _Files(mounted), left


def _words(part: Partition) -> str:
    return "a file system without a system" if part.holds == "ext" else _WORDS[part.holds]


def _described(part: Partition) -> str:
    return f"partition {part.number}: {_words(part)}" if part.number else f"the whole disk: {_words(part)}"


def _is_meant(row: Row, entry: Entry) -> bool:
    """Return whether this row removes the entry."""
    if entry.kind != "file":
        # The link to the present instance is one of the first-boot records.
        return entry.kind == "other" and row.how == "delete" and entry.name in row.names
    return any(fnmatch.fnmatchcase(entry.name, n) for n in row.names) and (row.how != "empty" or entry.size > 0)


class _Cleaning:
    """One system that is cleaned."""

    def __init__(self, files: _Files, left: list[tuple[str, str]]) -> None:
        self._files, self._left = files, left
        self._homes = homes(files.read("/etc/passwd") or "")
        self._first_boot = self._reads_first_boot()

    def run(self) -> list[str]:
        """Remove everything; what was removed, in words."""
        removed: dict[str, int] = {}
        for row in ROWS:
            changes = list(self._changes(row))
            if not changes:
                continue
            if row.access and not self._first_boot:
                self._left.append((row.words, NO_FIRST_BOOT))
                continue
            self._files.change(changes)
            removed[row.words] = removed.get(row.words, 0) + sum(how != "rmdir" for _, how in changes)
        words = [f"{what} ({n} {'file' if n == 1 else 'files'})" for what, n in removed.items() if n]
        return [*words, *self._passwords()]

    def _reads_first_boot(self) -> bool:
        asked = {folder for pair in FIRST_BOOT.values() for folder, _ in pair if folder}
        there = {(f, e.name) for f, entries in self._files.listed(asked).items() for e in entries}
        return any(program in there and off not in there for program, off in FIRST_BOOT.values())

    def _changes(self, row: Row) -> Iterator[tuple[str, str]]:
        for folder in [row.folder.replace(HOME, home) for home in self._homes if HOME in row.folder] or [row.folder]:
            if row.how == "contents":
                yield from self._contents(folder, 0)[0]
                continue
            for entry in self._files.listed([folder]).get(folder, []):
                path = f"{folder}/{entry.name}"
                if not _is_meant(row, entry):
                    continue
                if not entry.clear:
                    self._left.append((f"a file in {folder}", ODD_NAME))
                    continue
                yield path, row.how

    def _contents(self, folder: str, depth: int) -> tuple[list[tuple[str, str]], bool]:
        """How everything in a folder is deleted, the innermost first; and whether nothing is left then."""
        changes: list[tuple[str, str]] = []
        empty = True
        for entry in self._files.listed([folder]).get(folder, []):
            path = f"{folder}/{entry.name}"
            if not entry.clear or depth > _DEEPEST:
                self._left.append((f"a file in {folder}", ODD_NAME))
                empty = False
            elif entry.kind == "folder":
                inner, emptied = self._contents(path, depth + 1)
                changes += [*inner, *([(path, "rmdir")] if emptied else [])]
                empty &= emptied
            else:
                changes.append((path, "delete"))
        return changes, empty

    def _passwords(self) -> list[str]:
        """Lock the passwords of accounts; whose, in words."""
        shadow = self._files.read("/etc/shadow")
        entry = next((e for e in self._files.listed(["/etc"]).get("/etc", []) if e.name == "shadow"), None)
        if shadow is None or entry is None:
            return []
        text, had = locked(shadow)
        if had and not self._first_boot:
            self._left.append((f"passwords of {', '.join(had)}", NO_FIRST_BOOT))
            return []
        if text != shadow:
            self._files.replace("/etc/shadow", entry, text)
        return [f"passwords of {', '.join(had)} (locked)"] if had else []
