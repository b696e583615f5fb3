"""Edits of the lab file as frozen values, and their effect on its data."""

from __future__ import annotations

from copy import deepcopy
from typing import Any

from dacha.core.findings import Path
from dacha.core.named import NamedTuple


class Set(NamedTuple):
    """Set the value of the key at `path`, or add the key. A list index equal to the list's length appends."""

    path: Path
    value: Any


class Remove(NamedTuple):
    """Remove the key or table at `path`."""

    path: Path


Edit = Set | Remove


def edit_data(data: dict[str, Any], edit: Edit) -> dict[str, Any]:
    """The data after the edit. Raises KeyError if a path to be removed does not exist."""
    data = deepcopy(data)
    here: Any = data
    for step in edit.path[:-1]:
        here = here.setdefault(step, {}) if isinstance(edit, Set) and isinstance(here, dict) else here[step]
    last = edit.path[-1]
    if isinstance(edit, Remove):
        del here[last]
        prune(data, edit.path)
    elif isinstance(here, list) and last == len(here):
        here.append(edit.value)
    else:
        here[last] = edit.value
    return data


def prune(data: dict[str, Any], path: Path) -> dict[str, Any]:
    """Remove empty tables on the way to `path`. A table of named things ("guest") exists in the text only through its
    members, so an empty one and a missing one mean the same."""
    for depth in range(len(path) - 1, 0, -1):
        above: Any = data
        for step in path[: depth - 1]:
            above = above.get(step, {}) if isinstance(above, dict) else above[step]
        if isinstance(above, dict) and above.get(path[depth - 1]) == {}:
            del above[path[depth - 1]]
    return data


def as_laid_out(data: dict[str, Any], edit: Edit) -> Edit:
    """The same edit for a file that has a single table in place of a list of tables, such as `adapter = { … }`: its
    first member is that table; a second one makes it a list."""
    path = list(edit.path)
    here: Any = data
    at = 0
    while at < len(path):
        step = path[at]
        if isinstance(step, int) and isinstance(here, dict):
            last = at == len(path) - 1
            if step == 1 and last and isinstance(edit, Set):
                return Set(tuple(path[:at]), [here, edit.value])
            if step != 0:
                return edit
            del path[at]
            continue
        try:
            here = here[step]
        except (KeyError, IndexError, TypeError):
            break
        at += 1
    return edit._replace(path=tuple(path))


def rename_data(data: dict[str, Any], path: Path, name: str) -> dict[str, Any]:
    """The data after the table at `path` was renamed to `name`; the order is kept. Raises KeyError if it does not
    exist."""
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
