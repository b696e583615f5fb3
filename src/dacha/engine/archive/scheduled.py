"""Archives that are due: made, read back, and then the earlier ones deleted that are no longer kept."""

from __future__ import annotations

import contextlib
from collections.abc import Collection
from pathlib import Path

from dacha.core.archive.schedule import Schedule, archive_name, expired
from dacha.core.errors import BusyError, DachaError
from dacha.core.named import NamedTuple
from dacha.core.units import show_size
from dacha.engine.archive import reading
from dacha.engine.archive.basis import basis, keep_only
from dacha.engine.archive.due import archives, due_guests, folder_of
from dacha.engine.archive.saving import Lock, Progress, new_archive, save
from dacha.engine.log.journal import note
from dacha.engine.workspace import Workspace
from dacha.host.files import sweep


class Made(NamedTuple):
    """What came of a guest's due archive: its file and length (bytes), when the archive was made that it has the
    changes since (None for a whole one), the earlier archives that were deleted; or why it failed."""

    guest: str
    file: Path | None = None
    length: int = 0
    since: float | None = None
    deleted: tuple[Path, ...] = ()
    error: DachaError | None = None


def make(ws: Workspace, name: str, now: float, lock: Lock, progress: Progress) -> Made:
    """Save a guest to its next archive, read that back, and only then delete those that are no longer kept. The outcome
    is in the lab's log. Raises BusyError if another command is just doing so."""
    schedule = ws.lab.guests[name].archive
    assert schedule is not None
    try:
        archives(ws, name)
        folder = folder_of(ws, schedule)
        sweep(folder, f".{ws.lab.name}.{name}.*.part")
        found = basis(ws, name)
        since = max(archives(ws, name)) if found.base else None
        file = folder / archive_name(ws.lab.name, name, now, since)
        with new_archive(str(file), prove=lambda stream: reading.check(stream, lambda share: None)) as out:
            made = save(ws, name, out, with_keys=False, progress=progress, lock=lock, basis=found)
        # From here on the new archive counts as the last one.
        keep_only(ws.home, name, found.marks.new)
        deleted = _delete_expired(ws, name, schedule, now)
    except BusyError:
        raise
    except DachaError as e:
        note(ws.home, "archived", name, text=" / ".join(e.lines()), failed=True)
        return Made(name, error=e)
    only = ", only changes" if found.base else ""
    note(ws.home, "archived", name, text=f"{file}, {show_size(made.length)}{only}", deleted=len(deleted))
    return Made(name, file, made.length, since, deleted)


def _delete_expired(ws: Workspace, name: str, schedule: Schedule, now: float) -> tuple[Path, ...]:
    there = archives(ws, name)
    old = tuple(there[at].file for at in expired(schedule, {at: a.since for at, a in there.items()}, now))
    for path in old:
        with contextlib.suppress(OSError):
            path.unlink()
    return old


def make_due(
    ws: Workspace, now: float, lock: Lock, progress: Progress, only: Collection[str],
) -> list[Made]:  # fmt: skip
    """Make every archive that is due, of these guests. A failure does not prevent the others; a guest that another
    command is saving is left out."""
    found = []
    for name in due_guests(ws, now):
        if name in only:
            with contextlib.suppress(BusyError):
                found.append(make(ws, name, now, lock, progress))
    return found
