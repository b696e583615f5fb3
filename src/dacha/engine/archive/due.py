"""Which archives there are, and which guests are due for their next one.

The archives of a guest are the files in its folder with its lab's name, its own, and a time: nothing else is recorded,
and nothing else is ever deleted.
"""

from __future__ import annotations

import contextlib
import os
import stat
import time
from pathlib import Path

from dacha.core.archive.schedule import Schedule, due, from_name
from dacha.core.errors import HostError
from dacha.core.named import NamedTuple
from dacha.engine.workspace import Workspace


class Archive(NamedTuple):
    """A scheduled archive: when it was made (Unix seconds), its file, its length (bytes), and when the archive was made
    that it has the changes since, None for a whole one."""

    at: float
    file: Path
    length: int
    since: float | None = None


def folder_of(ws: Workspace, schedule: Schedule) -> Path:
    """The folder of a guest's archives."""
    return ws.resolve(schedule.folder).resolve()


def archives(ws: Workspace, guest: str) -> dict[float, Archive]:
    """A guest's scheduled archives by their time (Unix seconds), oldest first. Raises HostError."""
    schedule = ws.lab.guests[guest].archive
    if schedule is None:
        return {}
    folder = folder_of(ws, schedule)
    try:
        if folder.stat().st_mode & stat.S_IWOTH:
            raise HostError(
                f"every user may write to the folder for archives of {guest}: {folder}",
                why="others could add files that count as archives, and Dacha would delete older ones for them",
                remedy=f"chmod o-w {folder}",
            )
        with os.scandir(folder) as entries:
            files = {e.name: e.stat(follow_symlinks=False) for e in entries if e.is_file(follow_symlinks=False)}
    except FileNotFoundError as e:
        raise HostError(
            f"the folder for archives of {guest} does not exist: {folder}",
            why="its file system is not mounted, or it was not created yet",
            remedy=f"mount it, or: mkdir -p {folder}",
        ) from e
    except OSError as e:
        raise HostError(f"cannot read the folder for archives of {guest}: {folder}", why=e.strerror or str(e)) from e
    found = {}
    for name, seen in files.items():
        if named := from_name(ws.lab.name, guest, name):
            found[named.at] = Archive(named.at, folder / name, seen.st_size, named.since)
    return dict(sorted(found.items()))


def due_guests(ws: Workspace, now: float) -> list[str]:
    """The guests whose next archive is due at this time (Unix seconds). One that cannot be looked at is due: making its
    archive tells why."""
    found = []
    for name, guest in ws.lab.guests.items():
        if guest.archive is None:
            continue
        try:
            made = archives(ws, name)
        except HostError:
            found.append(name)
            continue
        if due(guest.archive, made, now, _midnight(now)) and _changed_since(ws, name, max(made, default=0.0)):
            found.append(name)
    return found


def _midnight(now: float) -> float:
    """When this host's local day began."""
    local = time.localtime(now)
    return time.mktime((local.tm_year, local.tm_mon, local.tm_mday, 0, 0, 0, 0, 0, -1))


def _changed_since(ws: Workspace, name: str, at: float) -> bool:
    """False for a guest without contents, for one that is off and whose disks did not change since, and for one that is
    saved to disk: its memory would be missing in an archive."""
    if ws.home.is_running(name):
        return True
    if ws.home.saved_note(name).exists():
        return False
    changed = []
    for _, disk in ws.home.disks(name):
        with contextlib.suppress(OSError):
            changed.append(disk.stat().st_mtime)
    return bool(changed) and max(changed) > at
