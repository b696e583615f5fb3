"""Edit the lab file: read, change, check, and only then write. A refused edit changes nothing."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import Any

from dacha.core.errors import LabError
from dacha.core.findings import Finding, errors
from dacha.core.lab.table.read import read_lab
from dacha.core.lab.text.edits import Edit, Set
from dacha.core.lab.text.text_edits import edit_text
from dacha.core.units import whole_number
from dacha.engine.log.journal import note
from dacha.engine.profiles import profiles
from dacha.engine.workspace import Workspace, lab_error, load, write_text
from dacha.host.files import editing

# Returns the edits for the present lab, under the file's lock.
Decide = Callable[[Workspace], Iterable[Edit]]


def edit_lab(
    named: str | None,
    decide: Decide,
    judge: Callable[[Workspace], list[Finding]] = lambda ws: [],
    anyway: str = "",
) -> Workspace:
    """Change the lab file by the edits that `decide` returns, write the plan's choices into it, and return the new
    workspace.

    An edit that makes the lab wrong (or that `judge` finds wrong for this host) is refused with LabError, and the file
    is not changed; `anyway` is the hint for writing the latter all the same.
    """
    path = load(named).path
    with editing(path):
        before = load(str(path))
        edits = list(decide(before))
        if not edits:
            return before
        after = _read(before, edit_text(before.text, edits))
        known = {(f.code, f.path, f.what) for f in errors(before.findings())}
        wrong = [f for f in errors(after.findings()) if (f.code, f.path, f.what) not in known]
        here = [] if wrong else errors(judge(after))
        if wrong or here:
            shown = lab_error(after.path, after.text, [*wrong, *here])
            raise LabError(
                "\n".join(_unplaced(f) for f in [*wrong, *here]),
                remedy=anyway if here else "",
                findings=shown.findings,
                unchanged=path.name,
            )
        # Values that the edit omitted and the plan chose (a subnet, an address, a port) are written, too.
        mine = {e.path for e in edits}
        chosen = {p: v for p, v in after.plan.chosen.items() if any(p[: len(m)] == m or m[: len(p)] == p for m in mine)}
        if chosen:
            after = _read(before, edit_text(after.text, settled(chosen)))
        write_text(path, after.text)
        if after.text != before.text:
            keys = dict.fromkeys(".".join(map(str, e.path)) for e in edits)
            note(after.home, "edited", keys=", ".join(keys))
    return after


def settled(chosen: dict[Any, str]) -> list[Edit]:
    """The edits for a plan's choices. A port is a number in the file, everything else is text."""
    edits: list[Edit] = []
    for path, text in chosen.items():
        number = whole_number(text) if path[-1] == "port" else None
        edits.append(Set(path, text if number is None else number))
    return edits


def _unplaced(f: Finding) -> str:
    """A finding without its line, which would refer to a text that was never written."""
    return f"{f.subject}: {f.what}" + "".join(f"\n  {line}" for line in f.remedy.splitlines())


def _read(before: Workspace, text: str) -> Workspace:
    reading = read_lab(text, profiles())
    if reading.lab is None or reading.findings:
        raise LabError(
            "\n".join(_unplaced(f) for f in reading.findings),
            findings=reading.findings,
            unchanged=before.path.name,
        )
    return Workspace(before.path, text, reading.lab, reading.findings)
