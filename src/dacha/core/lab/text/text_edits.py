"""The lab file's text after an edit, with its comments, order and layout kept.

Each edit is defined on the plain data (`edits.py`). The text is changed so that it means exactly that, and this is
verified: `parse(edit(text)) == edit(parse(text))`, else the edit is refused.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator
from typing import Any

import tomli

from dacha.core.errors import LabError
from dacha.core.findings import Path
from dacha.core.lab.text.edits import Edit, Remove, Set, as_laid_out, edit_data, prune, rename_data
from dacha.core.lab.text.layout import (
    Statement,
    comments,
    key_spans,
    key_text,
    next_member,
    statements,
    value_places,
    value_text,
)


def edit_text(text: str, edits: Iterable[Edit]) -> str:
    """The text after the edits, verified. `text` must be valid TOML. Raises LabError if its layout does not allow one;
    nothing is changed then."""
    for asked in edits:
        data = tomli.loads(text)
        edit = as_laid_out(data, asked)
        wanted = edit_data(data, edit)
        for new in _ways(text, edit, wanted):
            if _means(new, wanted, edit):
                text = new
                break
        else:
            shown = ".".join(map(str, edit.path))
            raise LabError(
                f"{shown} cannot be edited here without changing other lines of the file",
                remedy=f"edit it by hand: {shown} = {value_text(edit.value)}"
                if isinstance(edit, Set)
                else f"remove {shown} by hand",
            )
    return text


def _means(text: str, wanted: dict[str, Any], edit: Edit) -> bool:
    try:
        meant = tomli.loads(text)
    except tomli.TOMLDecodeError:
        return False
    return (prune(meant, edit.path) if isinstance(edit, Remove) else meant) == wanted


def _ways(text: str, edit: Edit, wanted: dict[str, Any]) -> Iterator[str]:
    """Candidate texts for the edit, the least invasive first."""
    ways: tuple[Callable[[str, Any], str], ...] = (_set, _append_section, _set_as_table)
    for way in ways if isinstance(edit, Set) else (_remove,):
        try:
            yield way(text, edit)
        except (tomli.TOMLDecodeError, ValueError, IndexError):
            continue
    for depth in range(len(edit.path), 1, -1):
        above = edit.path[:depth]
        if isinstance(above[-1], str):
            try:
                yield _written_again(text, above, wanted)
            except (tomli.TOMLDecodeError, ValueError, IndexError, KeyError):
                continue


def _written_again(text: str, path: Path, wanted: dict[str, Any]) -> str:
    """The key at `path` with everything below it as one statement, regardless of its former layout: its comments move
    above it."""
    value: Any = wanted
    for step in path:
        value = value[step]
    without = _remove(text, Remove(path))
    new = _set(without, Set(path, value))
    lost = comments(text)
    for comment in comments(new):
        # White space at its end may have gone.
        lost.remove(next(c for c in lost if c.rstrip() == comment.rstrip()))
    spans = _value_spans(new, statements(new))
    if lost and path in spans:
        at = new.rfind("\n", 0, spans[path][0]) + 1
        new = new[:at] + "".join(f"{comment}\n" for comment in lost) + new[at:]
    return new


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
    # The nearest ancestor that exists in the text: an inline table, a list, or a table's header.
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
    """Add a table with a header of its own, after the last one of its kind, one key a line."""
    path, value = edit
    if not isinstance(value, dict):
        raise ValueError("only a table has a header")
    lines = [f"[{key_text(path)}]\n"]
    for key, inner in value.items():
        # Tables of named things (doors) get one line each, as dotted keys; small fixed ones stay inline.
        if isinstance(inner, dict) and inner and all(isinstance(v, dict) for v in inner.values()):
            lines += [f"{key_text((key, name))} = {value_text(v)}\n" for name, v in inner.items()]
        else:
            lines.append(f"{key_text((key,))} = {value_text(inner)}\n")
    stmts = statements(text)
    kin = [n for n, s in enumerate(stmts) if s.table[: len(path) - 1] == path[:-1] and len(path) > 1]
    at = _own_end(text, stmts, kin[-1]) if kin else len(text)
    before, after = text[:at].rstrip("\n"), text[at:].lstrip("\n")
    return (before + "\n\n" if before else "") + "".join(lines) + ("\n" + after if after else "")


def _append_section(text: str, edit: Any) -> str:
    """Add a member to a list that is written as sections, [[…]], after the last of them."""
    path, value = edit
    *above, last = path
    before = (*above, last - 1) if isinstance(last, int) else ()
    stmts = statements(text)
    kin = [n for n, s in enumerate(stmts) if s.table[: len(path)] == before]
    if not kin or not isinstance(value, dict):
        raise ValueError("no section to stand behind")
    at = _own_end(text, stmts, kin[-1])
    lines = [f"[[{key_text(tuple(s for s in above if isinstance(s, str)))}]]\n"]
    lines += [f"{key_text((key,))} = {value_text(inner)}\n" for key, inner in value.items()]
    before_it, behind = text[:at].rstrip("\n"), text[at:].lstrip("\n")
    return before_it + "\n\n" + "".join(lines) + ("\n" + behind if behind else "")


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
    """The start of the comment lines directly above the line at `at`."""
    while at > 0:
        above = text.rfind("\n", 0, at - 1) + 1
        if not text[above:at].lstrip().startswith("#"):
            return at
        at = above
    return at


def _section_end(text: str, stmts: list[Statement], n: int) -> int:
    """The end of the section that contains statement `n - 1`: before the next header and its comments."""
    for s in stmts[n:]:
        if s.header:
            return _leading(text, s.start)
    return len(text)


def _own_end(text: str, stmts: list[Statement], n: int) -> int:
    """The end of what belongs only to the section of header `n`: its last key, the comment lines directly below it, and
    the blank lines after them. Free-standing comments belong to no section."""
    last = n
    while last + 1 < len(stmts) and not stmts[last + 1].header:
        last += 1
    at, limit = stmts[last].end, _section_end(text, stmts, n + 1)
    while at < limit and text[at : text.find("\n", at) + 1 or len(text)].lstrip().startswith("#"):
        at = text.find("\n", at) + 1 or len(text)
    blank = re.compile(r"[ \t]*\n").match(text, at)
    while blank:
        at = blank.end()
        blank = re.compile(r"[ \t]*\n").match(text, at)
    return at


def _remove(text: str, edit: Any) -> str:
    (path,) = edit
    stmts = statements(text)
    cuts: list[tuple[int, int]] = []
    for n, s in enumerate(stmts):
        if s.path[: len(path)] == path:
            if s.header:
                cuts.append((_leading(text, s.start), _own_end(text, stmts, n)))
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
        # On one line it has no comments, so rewriting it loses nothing.
        table = edit_data(tomli.loads(f"v = {text[opener:closer]}"), Remove(("v", *path[len(above) :])))
        return text[:opener] + value_text(table.get("v", {})) + text[closer:]
    inner = (e for p, (_, e) in spans.items() if p[: len(above)] == above and p != above)
    before = max((e for e in inner if e <= start), default=opener + 1)
    begin, behind = next_member(text, before), next_member(text, end)
    line = text.rfind("\n", 0, begin) + 1
    if not text[line:begin].strip() and line > opener:
        # A member on lines of its own is removed with them, and with its comments.
        rest = re.match(r"[ \t]*,?[ \t]*(?:#[^\n]*)?\n", text[end:])
        return text[:line] + text[end + rest.end() if rest else behind :]
    if text[behind] not in "]}":
        return text[:begin] + text[behind:]
    if before > opener + 1:
        return text[:before] + text[end:]
    return text[:opener] + text[opener] + text[closer - 1 :]


def rename_text(text: str, path: Path, name: str) -> str:
    """The text after renaming, verified. Raises LabError if its layout does not allow it; nothing is changed then."""
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
            f"{shown} cannot be renamed here without changing other lines of the file",
            remedy=f"write it as a table of its own: [{shown}]",
        )
    return new
