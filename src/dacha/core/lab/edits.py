"""Edits of the lab file: frozen values that change its text and keep comments, order and layout.

Each edit is defined on the plain data (what the file means); the text is then changed so that it means
exactly that, which is verified: `parse(edit(text)) == edit(parse(text))`, or the edit is refused. A table can be given
another name in the same way, and nothing else of the text another place.
"""

from __future__ import annotations

import re
from collections.abc import Iterable
from copy import deepcopy
from typing import Any

import tomli

from dacha.core.errors import LabError
from dacha.core.findings import Path
from dacha.core.lab.layout import Statement, key_spans, key_text, next_member, statements, value_places, value_text
from dacha.core.named import NamedTuple


class Set(NamedTuple):
    """Give the key at `path` a value: replaced when it is there, added when not. A list index equal to the
    list's length appends."""

    path: Path
    value: Any


class Remove(NamedTuple):
    """Remove the key or table at `path`."""

    path: Path


Edit = Set | Remove


def edit_data(data: dict[str, Any], edit: Edit) -> dict[str, Any]:
    """What the file means after the edit. Raises KeyError when a path to be removed is not there."""
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
    """Drop the tables on the way to `path` that are empty. A table of named things ("guest") stands in the text only
    by its members, so that an empty one and none mean the same."""
    for depth in range(len(path) - 1, 0, -1):
        above: Any = data
        for step in path[: depth - 1]:
            above = above.get(step, {}) if isinstance(above, dict) else above[step]
        if isinstance(above, dict) and above.get(path[depth - 1]) == {}:
            del above[path[depth - 1]]
    return data


def edit_text(text: str, edits: Iterable[Edit]) -> str:
    """The text after the edits, verified. `text` must be valid TOML. Raises LabError when its layout does not
    allow one; then nothing was changed."""
    for edit in edits:
        wanted = edit_data(tomli.loads(text), edit)
        ways = (_set, _set_as_table) if isinstance(edit, Set) else (_remove,)
        for way in ways:
            try:
                new = way(text, edit)
                meant = tomli.loads(new)
                if (prune(meant, edit.path) if isinstance(edit, Remove) else meant) == wanted:
                    break
            except (tomli.TOMLDecodeError, ValueError, IndexError):
                continue
        else:
            shown = ".".join(map(str, edit.path))
            raise LabError(
                f"the layout of the file does not let {shown} be edited without touching the rest",
                remedy=f"edit it by hand: {shown} = {value_text(edit.value)}"
                if isinstance(edit, Set)
                else f"remove {shown} by hand",
            )
        text = new
    return text


def _value_spans(text: str, stmts: list[Statement]) -> dict[Path, tuple[int, int]]:
    return {
        path: (start, end)
        for s in stmts
        if not s.header
        for path, start, end in value_places(text, s.value_start, s.path)
    }


def _set(text: str, edit: Any) -> str:
    path, value = edit
    stmts = statements(text)
    spans = _value_spans(text, stmts)
    if path in spans:
        start, end = spans[path]
        return text[:start] + value_text(value) + text[end:]
    # The nearest thing on the way that stands in the text: an inline table, a list, or a table's header.
    for depth in range(len(path) - 1, 0, -1):
        above, rest = path[:depth], path[depth:]
        if above in spans:
            return _insert_inline(text, spans, above, rest, value)
        headers = [s for s in stmts if s.header and s.path == above]
        if headers:
            return _insert_line(text, stmts, headers[-1], f"{key_text(rest)} = {value_text(value)}\n")
    if isinstance(value, dict):
        return _set_as_table(text, edit)
    return _set_as_table(text, Set(path[:-1], {path[-1]: value}))


def _set_as_table(text: str, edit: Any) -> str:
    """Add a table under a header of its own, behind the last of its kind, one key a line."""
    path, value = edit
    if not isinstance(value, dict):
        raise ValueError("only a table has a header")
    lines = [f"[{key_text(path)}]\n"]
    for key, inner in value.items():
        # Tables of named things (doors) go one a line as dotted keys; small fixed ones stay inline.
        if isinstance(inner, dict) and inner and all(isinstance(v, dict) for v in inner.values()):
            lines += [f"{key_text((key, name))} = {value_text(v)}\n" for name, v in inner.items()]
        else:
            lines.append(f"{key_text((key,))} = {value_text(inner)}\n")
    stmts = statements(text)
    kin = [n for n, s in enumerate(stmts) if s.table[: len(path) - 1] == path[:-1] and len(path) > 1]
    at = _section_end(text, stmts, kin[-1] + 1) if kin else len(text)
    before, after = text[:at].rstrip("\n"), text[at:].lstrip("\n")
    return (before + "\n\n" if before else "") + "".join(lines) + ("\n" + after if after else "")


def _insert_inline(text: str, spans: dict[Path, tuple[int, int]], above: Path, rest: Path, value: Any) -> str:
    start, _end = spans[above]
    inner = [p for p in spans if len(p) > len(above) and p[: len(above)] == above]
    if text[start] == "[":
        if len(rest) > 1:
            raise ValueError("no such member")
        piece = value_text(value)
    else:
        piece = f"{key_text(rest)} = {value_text(value)}"
    at = max((spans[p][1] for p in inner), default=start + 1)
    if inner:
        return text[:at] + ", " + piece + text[at:]
    pad = " " if text[start] == "{" else ""
    return text[:at] + pad + piece + pad + text[at:].lstrip(" ")


def _insert_line(text: str, stmts: list[Statement], header: Statement, line: str) -> str:
    own = [s for s in stmts if not s.header and s.table == header.table]
    at = own[-1].end if own else header.end
    if at and text[at - 1] != "\n":
        line = "\n" + line
    return text[:at] + line + text[at:]


def _leading(text: str, at: int) -> int:
    """The start of the comment lines that stand right above the line at `at`, without a blank one between."""
    while at > 0:
        above = text.rfind("\n", 0, at - 1) + 1
        if not text[above:at].lstrip().startswith("#"):
            return at
        at = above
    return at


def _section_end(text: str, stmts: list[Statement], n: int) -> int:
    """Where the section ends that holds statement `n - 1`: before the next header and its comments."""
    for s in stmts[n:]:
        if s.header:
            return _leading(text, s.start)
    return len(text)


def _remove(text: str, edit: Any) -> str:
    (path,) = edit
    stmts = statements(text)
    cuts: list[tuple[int, int]] = []
    for n, s in enumerate(stmts):
        if s.path[: len(path)] == path:
            if s.header:
                cuts.append((_leading(text, s.start), _section_end(text, stmts, n + 1)))
            elif s.table[: len(path)] != path:
                cuts.append((s.start, s.end))
    if not cuts:
        return _remove_inline(text, stmts, path)
    for start, end in sorted(cuts, reverse=True):
        text = text[:start] + text[end:]
    return text


def _remove_inline(text: str, stmts: list[Statement], path: Path) -> str:
    spans = _value_spans(text, stmts)
    start, end = spans.get(path, (0, 0))
    above = path[:-1]
    while above and above not in spans:
        above = above[:-1]
    if not end or not above:
        raise ValueError("not there")
    opener, closer = spans[above]
    if text[opener] == "{" and "\n" not in text[opener:closer]:
        # On one line it has no comments, so writing it anew loses nothing.
        table = edit_data(tomli.loads(f"v = {text[opener:closer]}"), Remove(("v", *path[len(above) :])))
        return text[:opener] + value_text(table.get("v", {})) + text[closer:]
    inner = (e for p, (_, e) in spans.items() if p[: len(above)] == above and p != above)
    before = max((e for e in inner if e <= start), default=opener + 1)
    begin, behind = next_member(text, before), next_member(text, end)
    line = text.rfind("\n", 0, begin) + 1
    if not text[line:begin].strip() and line > opener:
        # A member on lines of its own goes with them, and with what is said of it there.
        rest = re.match(r"[ \t]*,?[ \t]*(?:#[^\n]*)?\n", text[end:])
        return text[:line] + text[end + rest.end() if rest else behind :]
    if text[behind] not in "]}":
        return text[:begin] + text[behind:]
    if before > opener + 1:
        return text[:before] + text[end:]
    return text[:opener] + text[opener] + text[closer - 1 :]


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
    wanted = rename_data(tomli.loads(text), path, name)
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
    if tomli.loads(new) != wanted:
        shown = ".".join(map(str, path))
        raise LabError(
            f"the layout of the file does not let {shown} be renamed without touching the rest",
            remedy=f"write it as a table of its own: [{shown}]",
        )
    return new
