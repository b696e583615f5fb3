"""Editing the lab file: read, change, judge, and only then write. A refused edit changes nothing."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import Any

from dacha.core.errors import LabError
from dacha.core.findings import Finding, errors
from dacha.core.lab.read import read_lab
from dacha.core.lab.text.edits import Edit, Set
from dacha.core.lab.text.text_edits import edit_text
from dacha.core.units import whole_number
from dacha.engine.profiles import profiles
from dacha.engine.workspace import Workspace, lab_error, load, write_text
from dacha.host.files import editing

# Decides on the edits from the lab as it is while nobody else changes it.
Decide = Callable[[Workspace], Iterable[Edit]]


def edit_lab(
    named: str | None,
    decide: Decide,
    judge: Callable[[Workspace], list[Finding]] = lambda ws: [],
    anyway: str = "",
) -> Workspace:
    """Change the lab file by what `decide` answers, write down what the plan then chooses for it, and return the
    workspace as it is afterwards.

    An edit that makes the lab wrong (or that `judge` finds wrong for this host) is refused with LabError, and the
    file stays as it was; `anyway` is how to have the latter written all the same.
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
                "\n".join(_unplaced(f) for f in [*wrong, *here]) + f"\n{path.name} is unchanged.",
                remedy=anyway if here else "",
                findings=shown.findings,
            )
        # What the edit left out and the plan chose (a subnet, an address, a port) is written down with it.
        mine = {e.path for e in edits}
        chosen = {p: v for p, v in after.plan.chosen.items() if any(p[: len(m)] == m or m[: len(p)] == p for m in mine)}
        if chosen:
            after = _read(before, edit_text(after.text, settled(chosen)))
        write_text(path, after.text)
    return after


def settled(chosen: dict[Any, str]) -> list[Edit]:
    """The edits that write a plan's choices down. A port is a number in the file, all else is text."""
    edits: list[Edit] = []
    for path, text in chosen.items():
        number = whole_number(text) if path[-1] == "port" else None
        edits.append(Set(path, text if number is None else number))
    return edits


def _unplaced(f: Finding) -> str:
    """A finding without its line: the line would be one of a text that was never written."""
    return f"{f.subject}: {f.what}" + "".join(f"\n  {line}" for line in f.remedy.splitlines())


def _read(before: Workspace, text: str) -> Workspace:
    reading = read_lab(text, profiles())
    if reading.lab is None or reading.findings:
        raise LabError(
            "\n".join(_unplaced(f) for f in reading.findings) + f"\n{before.path.name} is unchanged.",
            findings=reading.findings,
        )
    return Workspace(before.path, text, reading.lab, reading.findings)
