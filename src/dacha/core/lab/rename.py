"""Giving a table of the lab file another name, and nothing else of the text another place."""

from __future__ import annotations

import tomllib
from typing import Any

from dacha.core.errors import LabError
from dacha.core.findings import Path
from dacha.core.lab.layout import key_spans, key_text, statements


def rename_data(data: dict[str, Any], path: Path, name: str) -> dict[str, Any]:
    """What the file means after the table at `path` is called `name`; the order stays. Raises KeyError where there is
    none."""
    *steps, last = map(str, path)
    here = data
    above: list[tuple[dict[str, Any], str]] = []
    for step in steps:
        above.append((here, step))
        here = here[step]
    if last not in here:
        raise KeyError(last)
    renamed = {name if key == last else key: value for key, value in here.items()}
    for holder, key in reversed(above):
        renamed = holder | {key: renamed}
    return renamed


def rename_text(text: str, path: Path, name: str) -> str:
    """The text after that, verified. Raises LabError when its layout does not allow it; then nothing was changed."""
    wanted = rename_data(tomllib.loads(text), path, name)
    cuts = []
    for s in statements(text):
        if s.path[: len(path)] != path:
            continue
        at = s.value_start if s.header else s.start
        number = len(path) - 1 - (0 if s.header else len(s.table))
        if number >= 0:
            cuts.append(key_spans(text, at)[number])
    new = text
    for start, end in sorted(cuts, reverse=True):
        new = new[:start] + key_text((name,)) + new[end:]
    if tomllib.loads(new) != wanted:
        shown = ".".join(map(str, path))
        raise LabError(
            f"the layout of the file does not let {shown} be renamed without touching the rest",
            remedy=f"write it as a table of its own: [{shown}]",
        )
    return new
