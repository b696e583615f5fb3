"""A snapshot of a guest, and the tree of its snapshots."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from dacha.core.named import NamedTuple


class Snapshot(NamedTuple):
    """A snapshot: its identifier, its name and description, when it was taken (Unix seconds) and by whom, the
    identifier of the snapshot before it (None for the first), the names of the disks in it, whether the guest was
    `running`, whether its file systems were `frozen`, and the length of its memory in bytes (0 without memory).

    `stage` is what a command does with it: "taking" or "removing" until that is complete, else ""."""

    id: str
    name: str
    about: str
    at: float
    by: str
    parent: str | None
    disks: tuple[str, ...]
    running: bool
    frozen: bool
    memory: int
    stage: str = ""

    @property
    def inside(self) -> str:
        """Its name inside the images of the disks."""
        return f"dacha-{self.id}"


def snapshot_from(raw: dict[str, Any]) -> Snapshot:
    """A snapshot from its record. Raises KeyError, TypeError or ValueError if it is damaged."""
    return Snapshot(
        id=str(raw["id"]),
        name=str(raw["name"]),
        about=str(raw["about"]),
        at=float(raw["at"]),
        by=str(raw["by"]),
        parent=None if raw["parent"] is None else str(raw["parent"]),
        disks=tuple(str(d) for d in raw["disks"]),
        running=bool(raw["running"]),
        frozen=bool(raw["frozen"]),
        memory=int(raw["memory"]),
        stage=str(raw.get("stage", "")),
    )


def tree(snapshots: Iterable[Snapshot]) -> list[tuple[int, Snapshot]]:
    """The snapshots in the order of their tree, oldest first, each with its depth. One whose parent is not known is a
    first one."""
    every = sorted(snapshots, key=lambda s: (s.at, s.id))
    known = {s.id for s in every}
    below: dict[str | None, list[Snapshot]] = {}
    for s in every:
        below.setdefault(s.parent if s.parent in known and s.parent != s.id else None, []).append(s)
    found: list[tuple[int, Snapshot]] = []
    waiting = [(0, s) for s in reversed(below.get(None, []))]
    while waiting:
        depth, here = waiting.pop()
        found.append((depth, here))
        # An only child follows in the same column: a tree of one branch is a list.
        children = below.get(here.id, [])
        deeper = depth + (len(children) > 1)
        waiting += [(deeper, s) for s in reversed(children)]
    # Records that name each other as parents are shown, too.
    shown = {s.id for _, s in found}
    return found + [(0, s) for s in every if s.id not in shown]
