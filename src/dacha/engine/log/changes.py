"""What a command changed on this host, in the log; and the lab file's versions, as they were applied."""

from __future__ import annotations

import contextlib
import time
from pathlib import Path

from dacha.core.apply.changes import Change, StartGuest, kind_of, subject
from dacha.core.errors import DachaError, HostError, UsageError
from dacha.core.named import NamedTuple
from dacha.engine.home import Home
from dacha.engine.log.journal import note
from dacha.host import folders
from dacha.host.files import replace_file

# So many versions are kept: the oldest is deleted first.
VERSIONS_MOST = 200


class Version(NamedTuple):
    """A version of the lab file: when it was applied (Unix seconds), and its file."""

    at: float
    path: Path

    def shown(self) -> str:
        """When it was applied, in local time."""
        return time.strftime("%Y-%m-%d %H:%M:%S", time.localtime(self.at))


def note_done(home: Home, change: Change) -> None:
    """Record a change that was made."""
    if isinstance(change, StartGuest):
        note(home, "continued" if change.saved else "started", change.guest)
    else:
        note(home, "changed", change.guest, change=kind_of(change), subject=subject(change), text=change.done())


def note_failed(home: Home, change: Change, error: DachaError) -> None:
    """Record a change that could not be made."""
    text = " / ".join(error.lines())
    note(home, "failed", change.guest, change=kind_of(change), subject=subject(change), text=text)


def note_applied(home: Home, text: str) -> None:
    """Record that this lab file was applied, and keep its text, unless it is the one that was applied before."""
    with contextlib.suppress(HostError):  # a full disk: the lab is applied all the same
        if (at := keep_version(home, text)) is not None:
            note(home, "applied", at=at)


def keep_version(home: Home, text: str) -> float | None:
    """Keep a text of the lab file; returns when (Unix seconds), None if it is the last one kept. Raises HostError."""
    kept = versions(home)
    with contextlib.suppress(OSError):
        if kept and kept[-1].path.read_text() == text:
            return None
    now = time.time()
    folders.make_private(home.versions)
    replace_file(home.versions / f"{now:.3f}.toml", text, mode=0o600)
    for old in kept[: max(0, len(kept) + 1 - VERSIONS_MOST)]:
        old.path.unlink(missing_ok=True)
    return now


def versions(home: Home) -> list[Version]:
    """The versions that are kept, oldest first."""
    found = []
    for path in home.versions.glob("*.toml") if home.versions.is_dir() else ():
        with contextlib.suppress(ValueError):
            found.append(Version(float(path.stem), path))
    return sorted(found)


def version_at(home: Home, moment: float) -> Version:
    """The version that was in force at a moment (Unix seconds). Raises UsageError if there was none."""
    kept = versions(home)
    before = [v for v in kept if v.at <= moment]
    if not before:
        raise UsageError(
            f"no version of the lab {home.lab} is known from then",
            why=f"the oldest version was applied at {kept[0].shown()}" if kept else "it was never applied",
            remedy="dacha log --kind applied lists the versions",
        )
    return before[-1]
