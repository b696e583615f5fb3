"""The records of a guest's snapshots, in its folder `snapshots`: `ID.json` with what was known of the guest, and beside
it its memory, its UEFI variables and the state of its TPM.

`now` has the identifier of the snapshot that the guest's present state descends from; `restoring` that of one that is
being restored.
"""

from __future__ import annotations

import contextlib
from pathlib import Path
from typing import Any

from dacha.core.errors import UsageError
from dacha.core.named import NamedTuple
from dacha.core.spelling import did_you_mean
from dacha.core.states.snapshot import Snapshot, snapshot_from
from dacha.engine.home import Home
from dacha.host import folders
from dacha.host.files import replace_file
from dacha.host.records import DAMAGED, read_record, write_record

VERSION = 1
# What Dacha knows of the inside of a guest: it is true again when the guest's disks are what they were.
INSIDE = ("keyed", "own_accounts", "unsure", "inside", "told", "bare", "instance", "installed", "accepted_key")


class Kept(NamedTuple):
    """A snapshot with what was recorded of the guest: what is inside it, and the machine that its memory belongs to
    (None without memory)."""

    snapshot: Snapshot
    inside: dict[str, Any]
    machine: dict[str, Any] | None


def folder(home: Home, guest: str) -> Path:
    return home.guest(guest) / "snapshots"


def file_of(home: Home, guest: str, snapshot: Snapshot, kind: str) -> Path:
    """A file of a snapshot: its "memory", or what `beside.py` copies."""
    return folder(home, guest) / f"{snapshot.id}.{kind}"


def read(home: Home, guest: str) -> list[Kept]:
    """Every snapshot of a guest, also incomplete ones. A damaged record is left out. Raises HostError for one of a
    newer Dacha."""
    found = []
    for path in sorted(folder(home, guest).glob("*.json")) if folder(home, guest).is_dir() else ():
        raw = read_record(path, VERSION)
        with contextlib.suppress(*DAMAGED):
            found.append(Kept(snapshot_from(raw["snapshot"]), dict(raw["inside"]), raw["machine"]))
    return found


def complete(home: Home, guest: str) -> list[Kept]:
    """The snapshots of a guest that can be restored."""
    return [k for k in read(home, guest) if not k.snapshot.stage]


def write(home: Home, guest: str, kept: Kept) -> None:
    """Write a snapshot's record. Raises HostError."""
    folders.make_private(folder(home, guest))
    value = {"snapshot": kept.snapshot._asdict(), "inside": kept.inside, "machine": kept.machine}
    write_record(folder(home, guest) / f"{kept.snapshot.id}.json", VERSION, value, 0o600)


def forget(home: Home, guest: str, snapshot: Snapshot) -> None:
    """Delete the files of a snapshot, its record last."""
    for path in folder(home, guest).glob(f"{snapshot.id}.*"):
        if path.suffix != ".json":
            path.unlink(missing_ok=True)
    (folder(home, guest) / f"{snapshot.id}.json").unlink(missing_ok=True)


def now(home: Home, guest: str) -> str | None:
    """The identifier of the snapshot that the guest's present state descends from; None without a snapshot."""
    return _read_id(folder(home, guest) / "now")


def set_now(home: Home, guest: str, identifier: str | None) -> None:
    """Record the snapshot that the guest's present state descends from. Raises HostError."""
    path = folder(home, guest) / "now"
    if identifier is None:
        path.unlink(missing_ok=True)
    else:
        replace_file(path, identifier, 0o600)


def restoring(home: Home, guest: str) -> str | None:
    """The identifier of the snapshot that a killed command was restoring; None if no restore was interrupted."""
    return _read_id(folder(home, guest) / "restoring")


def set_restoring(home: Home, guest: str, identifier: str | None) -> None:
    """Record that a snapshot is being restored, or no longer. Raises HostError."""
    path = folder(home, guest) / "restoring"
    if identifier is None:
        path.unlink(missing_ok=True)
    else:
        replace_file(path, identifier, 0o600)


def _read_id(path: Path) -> str | None:
    try:
        return path.read_text().strip() or None
    except OSError:
        return None


def named(home: Home, guest: str, name: str) -> Kept:
    """The snapshot of that name. Raises UsageError if the guest has no snapshot of that name."""
    every = complete(home, guest)
    for kept in every:
        if kept.snapshot.name == name:
            return kept
    names = [k.snapshot.name for k in every]
    raise UsageError(
        f"{guest} has no snapshot {name}", remedy=did_you_mean(name, names, f"dacha snapshot list {guest}")
    )


def relink(home: Home, guest: str, gone: Snapshot) -> None:
    """Let the snapshots after a removed one follow the one before it. Raises HostError."""
    for kept in read(home, guest):
        if kept.snapshot.parent == gone.id:
            write(home, guest, kept._replace(snapshot=kept.snapshot._replace(parent=gone.parent)))
    if now(home, guest) == gone.id:
        set_now(home, guest, gone.parent)


def refuse_name(home: Home, guest: str, name: str) -> None:
    """Refuse a name that is in use, or cannot be one. Raises UsageError."""
    if not name or len(name) > 60 or not name.isprintable() or "/" in name or name.startswith(("-", ".")):
        raise UsageError(
            f"{name!r} cannot be the name of a snapshot", remedy="use at most 60 letters, digits, and . _ - or spaces"
        )
    if any(k.snapshot.name == name for k in complete(home, guest)):
        raise UsageError(
            f"{guest} already has a snapshot {name}",
            remedy=f"choose another name, or remove that one: dacha snapshot remove '{name}' {guest}",
        )
