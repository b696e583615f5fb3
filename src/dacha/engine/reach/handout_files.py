"""Write a handout: a folder or an archive that contains a list of the handout's own files.

Only files in that list, unchanged since, are ever replaced or removed: a folder or an archive without the list is not a
handout.
"""

from __future__ import annotations

import json
from collections.abc import Mapping
from hashlib import sha256
from pathlib import Path, PurePosixPath

from dacha.core.errors import HostError, UsageError
from dacha.engine.reach.handout import Handout
from dacha.host.files import refused, replace_file

LIST = ".handout.json"
_VERSION = 1
# The digests that each file may have: while one handout replaces another, either one.
Listed = dict[str, list[str]]


def write(made: Handout, target: Path) -> None:
    """Write the folder, or an archive if `target` ends in .zip. Other files are not changed. Raises UsageError,
    HostError."""
    if target.suffix == ".zip":
        _write_archive(made, target)
    else:
        _write_folder(made, target)


def _write_folder(made: Handout, target: Path) -> None:
    try:
        listed = _judged(made, target)
        now = {path: [_digest(content)] for path, content in made.files.items()}
        target.mkdir(parents=True, exist_ok=True)
        # If it is killed anywhere, each of these files is still known as part of a handout.
        both = {path: [*listed.get(path, ()), *now.get(path, ())] for path in dict.fromkeys([*listed, *now])}
        replace_file(target / LIST, _list_text(both), mode=0o600)
        for path in listed:
            if path not in made.files or path in made.private:
                (target / path).unlink(missing_ok=True)
        for path, content in made.files.items():
            (target / path).parent.mkdir(parents=True, exist_ok=True)
            replace_file(target / path, content, mode=0o600 if path in made.private else 0o644)
        replace_file(target / LIST, _list_text(now), mode=0o600)
        for folder in {(target / path).parent for path in listed} - {target}:
            if folder.is_dir() and not any(folder.iterdir()):
                folder.rmdir()
    except OSError as e:
        raise refused(target, e) from e


def _judged(made: Handout, target: Path) -> Listed:
    """The files of an earlier handout in a folder; none if it is empty or does not exist. Raises UsageError if anything
    else would be lost, OSError."""
    elsewhere = "choose an empty folder, or one that does not exist yet"
    if not target.exists():
        return {}
    if not target.is_dir():
        raise UsageError(f"{target} is a file", remedy=elsewhere)
    there = [p for p in target.iterdir() if p.name != LIST]
    listed = _read_list((target / LIST).read_bytes()) if (target / LIST).is_file() else None
    if listed is None:
        if there:
            raise UsageError(f"{target} contains other files, and is not a handout", remedy=elsewhere)
        return {}
    root = target.resolve()
    for path in {*listed, *made.files}:
        place = target / path
        if place.is_symlink() or not place.parent.resolve().is_relative_to(root):
            raise UsageError(f"{place} is a link out of the handout", remedy=elsewhere)
        if place.exists() and (not place.is_file() or _digest(place.read_bytes()) not in listed.get(path, ())):
            why = "it was changed since the handout was created" if path in listed else "it is not part of the handout"
            raise UsageError(f"{place} would be overwritten: {why}", remedy=f"move it elsewhere, or {elsewhere}")
    return listed


def _write_archive(made: Handout, target: Path) -> None:
    import io
    import zipfile

    if (target.exists() or target.is_symlink()) and not _is_handout(target):
        raise UsageError(
            f"{target} already exists, and is not a handout or was changed since",
            remedy="choose a file that does not exist yet",
        )
    buffer = io.BytesIO()
    digests = {path: [_digest(content)] for path, content in made.files.items()}
    with zipfile.ZipFile(buffer, "w", zipfile.ZIP_DEFLATED) as archive:
        for path, content in {**made.files, LIST: _list_text(digests)}.items():
            entry = zipfile.ZipInfo(f"{target.stem}/{path}")
            entry.compress_type = zipfile.ZIP_DEFLATED
            entry.external_attr = (0o600 if path in made.private or path == LIST else 0o644) << 16
            archive.writestr(entry, content)
    replace_file(target, buffer.getvalue(), mode=0o600 if made.private else 0o644)


def _is_handout(target: Path) -> bool:
    """True for an archive that contains exactly what its own list names, unchanged."""
    import zipfile

    try:
        with zipfile.ZipFile(target) as archive:
            names = [n for n in archive.namelist() if not n.endswith("/")]
            inside = {n.partition("/")[2]: n for n in names}
            listed = _read_list(archive.read(inside[LIST])) if LIST in inside else None
            if listed is None or inside.keys() - {LIST} != listed.keys() or len(names) != len(inside):
                return False
            # A handout's files are small: a larger one is something else.
            if any(archive.getinfo(n).file_size > _LARGEST for n in names):
                return False
            return all(_digest(archive.read(inside[path])) in digests for path, digests in listed.items())
    except (OSError, KeyError, ValueError, NotImplementedError, zipfile.BadZipFile):
        return False


_LARGEST = 16 << 20


def _list_text(files: Mapping[str, list[str]]) -> bytes:
    told = {"version": _VERSION, "about": "files that dacha handout wrote here, and may replace", "files": files}
    return (json.dumps(told, indent=1) + "\n").encode()


def _read_list(text: bytes) -> Listed | None:
    """The files in a list; None if it is not a list of this version. Raises HostError for a newer one."""
    try:
        told = json.loads(text)
        version, files = told["version"], told["files"]
        if version != _VERSION:
            raise HostError(
                f"this handout was created by a newer dacha (its list has version {version})",
                remedy="choose another folder or file",
            )
        found = {str(path): [str(d) for d in digests] for path, digests in files.items()}
    except (AttributeError, KeyError, TypeError, ValueError):
        return None
    paths = [PurePosixPath(path) for path in found]
    return None if any(p.is_absolute() or ".." in p.parts or not p.parts for p in paths) else found


def _digest(content: bytes) -> str:
    return sha256(content).hexdigest()
