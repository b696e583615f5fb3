"""The position of each key in a TOML text.

tomli gives values without positions, and libraries that edit TOML move comments between tables. This module reads only
the layout of a text that tomli has accepted (TOML 1.1), and gives each key its line and span: for error messages and
for edits.
"""

from __future__ import annotations

import re
from bisect import bisect_right
from collections.abc import Iterator

from dacha.core.findings import Path
from dacha.core.named import NamedTuple

_BARE = re.compile(r"[A-Za-z0-9_-]+")
# A key in its usual form: bare parts, separated by dots only.
_PLAIN_KEY = re.compile(r"[ \t]*([A-Za-z0-9_-]+(?:\.[A-Za-z0-9_-]+)*)[ \t]*(?=[=\]])")
_SHORT_STRINGS = re.compile(r'"(?:[^"\\\n]|\\.)*"|\'[^\'\n]*\'')
_BLANK = re.compile(r"[ \t]*")
_SPACE = re.compile(r"(?:[ \t\r\n]|#[^\n]*)*")
_SCALAR = re.compile(r"[^,\]}#\r\n]+")
_BASIC = re.compile(r'"(?:[^"\\\n]|\\.)*"')
_LITERAL = re.compile(r"'[^'\n]*'")
_LONG_BASIC = re.compile(r'"""(?:[^\\]|\\.)*?"""(?:"{0,2})', re.S)
_LONG_LITERAL = re.compile(r"'''.*?'''(?:'{0,2})", re.S)
_STRING_OR_COMMENT = re.compile(
    rf"{_LONG_BASIC.pattern}|{_LONG_LITERAL.pattern}|{_BASIC.pattern}|{_LITERAL.pattern}|#[^\n]*", re.S
)


class Statement(NamedTuple):
    """One header or one `key = value` of the text. `start` and `end` are offsets of its whole lines; the value has the
    span `value_start:value_end` (for a header, the key inside the brackets)."""

    path: Path
    header: bool
    start: int
    end: int
    value_start: int
    value_end: int
    table: Path


def _string(text: str, at: int) -> int:
    for opener, pattern in (('"""', _LONG_BASIC), ("'''", _LONG_LITERAL), ('"', _BASIC), ("'", _LITERAL)):
        if text.startswith(opener, at):
            match = pattern.match(text, at)
            if match:
                return match.end()
    raise ValueError(f"no string at offset {at}")


def _key(text: str, at: int) -> tuple[list[str], int]:
    """A dotted key at `at`: its parts, and the offset after it."""
    plain = _PLAIN_KEY.match(text, at)
    if plain:
        return plain[1].split("."), plain.end()
    import tomli

    spans = key_spans(text, at)
    parts = [
        tomli.loads(f"k = {text[start:end]}")["k"] if text[start] in "\"'" else text[start:end] for start, end in spans
    ]
    return parts, _BLANK.match(text, spans[-1][1]).end()  # type: ignore[union-attr]  # matches the empty string


def key_spans(text: str, at: int) -> list[tuple[int, int]]:
    """The span of each part of a dotted key at `at`."""
    spans: list[tuple[int, int]] = []
    while True:
        at = _BLANK.match(text, at).end()  # type: ignore[union-attr]  # matches the empty string
        if text[at] in "\"'":
            end = _string(text, at)
        else:
            match = _BARE.match(text, at)
            if not match:
                raise ValueError(f"no key at offset {at}")
            end = match.end()
        spans.append((at, end))
        at = _BLANK.match(text, end).end()  # type: ignore[union-attr]
        if not text.startswith(".", at):
            return spans
        at += 1


def value_places(text: str, at: int, path: Path) -> Iterator[tuple[Path, int, int]]:
    """Each value from offset `at` on, including nested ones: (path, start, end); the outermost comes last."""
    start = at
    opener = text[at]
    if opener in "\"'":
        at = _string(text, at)
    elif opener in "[{":
        closer = "]" if opener == "[" else "}"
        index = 0
        at = _SPACE.match(text, at + 1).end()  # type: ignore[union-attr]
        while text[at] != closer:
            inner: Path
            if opener == "[":
                inner = (*path, index)
            else:
                parts, at = _key(text, at)
                inner = (*path, *parts)
                at = _SPACE.match(text, at + 1).end()  # type: ignore[union-attr]  # behind the "="
            for place in value_places(text, at, inner):
                yield place
            at = _SPACE.match(text, place[2]).end()  # type: ignore[union-attr]
            index += 1
            if text[at] == ",":
                at = _SPACE.match(text, at + 1).end()  # type: ignore[union-attr]
        at += 1
    else:
        match = _SCALAR.match(text, at)
        if not match:
            raise ValueError(f"no value at offset {at}")
        at += len(match.group().rstrip())
    yield path, start, at


def next_member(text: str, at: int) -> int:
    """The offset of the next member of a list or table, after the one that ends at `at` (or after its opening bracket):
    past a comma, white space and comments. The offset of the closing bracket if there is none."""
    at = _SPACE.match(text, at).end()  # type: ignore[union-attr]  # matches the empty string
    return _SPACE.match(text, at + 1).end() if text[at] == "," else at  # type: ignore[union-attr]


def comments(text: str) -> list[str]:
    """Every comment of the text, in order."""
    return [m.group().rstrip("\r") for m in _STRING_OR_COMMENT.finditer(text) if m.group().startswith("#")]


def _on_one_line(text: str, at: int, path: Path) -> tuple[Path, int, int] | None:
    """The span of a list or table that ends on its own line, without parsing it; None if that is not possible."""
    if text[at] not in "[{":
        return None
    newline = text.find("\n", at)
    line = text[at : newline if newline >= 0 else len(text)].rstrip()
    # Without its strings, only its own brackets are left.
    marks = _SHORT_STRINGS.sub("", line)
    if any(c in marks for c in "\"'#") or any(marks.count(a) != marks.count(b) for a, b in ("[]", "{}")):
        return None
    return path, at, at + len(line)


def statements(text: str) -> list[Statement]:
    """Every header and every `key = value` in file order. `text` must be valid TOML."""
    found: list[Statement] = []
    table: Path = ()
    counts: dict[Path, int] = {}
    at = 0
    while True:
        at = _SPACE.match(text, at).end()  # type: ignore[union-attr]
        if at >= len(text):
            return found
        start = text.rfind("\n", 0, at) + 1
        if text[at] == "[":
            array = text.startswith("[[", at)
            parts, behind = _key(text, at + (2 if array else 1))
            table = _resolve(parts, counts)
            if array:
                counts[table] = counts.get(table, -1) + 1
                table = (*table, counts[table])
            place = (table, at + (2 if array else 1), behind)
            header = True
        else:
            parts, behind = _key(text, at)
            behind = _BLANK.match(text, behind + 1).end()  # type: ignore[union-attr]
            place = _on_one_line(text, behind, (*table, *parts)) or [*value_places(text, behind, (*table, *parts))][-1]
            header = False
        newline = text.find("\n", place[2])
        end = len(text) if newline < 0 else newline + 1
        found.append(Statement(place[0], header, start, end, place[1], place[2], table))
        at = end


def _resolve(parts: list[str], counts: dict[Path, int]) -> Path:
    """A header's key as a path, resolved through the arrays of tables opened so far."""
    path: Path = ()
    for n, part in enumerate(parts):
        path = (*path, part)
        if n < len(parts) - 1 and path in counts:
            path = (*path, counts[path])
    return path


class Places:
    """Finds the line of a key path; created once for a text, when the first position is needed."""

    def __init__(self, text: str) -> None:
        self._text = text
        self._newlines = [m.start() for m in re.finditer("\n", text)]
        self._at: dict[Path, int] = {}
        # Values that contain others, which are parsed when one of those is requested.
        self._closed: dict[Path, int] = {}
        for s in statements(text):
            self._note(s.path, s.value_start if s.header else s.start)
            if not s.header and text[s.value_start] in "[{":
                self._closed.setdefault(s.path, s.value_start)

    def _note(self, path: Path, offset: int) -> None:
        while path and path not in self._at:
            self._at[path] = offset
            path = path[:-1]

    def line(self, path: Path) -> int | None:
        """The line (from 1) of the nearest key in the text on the way to `path`."""
        here = path
        while here:
            begin = self._closed.pop(here, None) if here != path else None
            if begin is not None:
                for inner, start, _ in value_places(self._text, begin, here):
                    self._note(inner, start)
                return self.line(path)
            if here in self._at:
                return bisect_right(self._newlines, self._at[here] - 1) + 1
            here = here[:-1]
        return None


def value_text(value: object) -> str:
    """A value as TOML on one line: tables inline, text in double quotes."""
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, int | float):
        return repr(value)
    if isinstance(value, dict):
        inner = ", ".join(f"{key_text((str(k),))} = {value_text(v)}" for k, v in value.items())
        return f"{{ {inner} }}" if inner else "{}"
    if isinstance(value, list | tuple):
        return "[" + ", ".join(value_text(v) for v in value) + "]"
    return _quoted(str(value))


def key_text(path: Path) -> str:
    """A dotted key, each part bare if TOML allows it."""
    return ".".join(str(p) if _BARE.fullmatch(str(p)) else _quoted(str(p)) for p in path)


def _quoted(text: str) -> str:
    escapes = {'"': '\\"', "\\": "\\\\", "\n": "\\n", "\t": "\\t", "\r": "\\r"}
    return (
        '"' + "".join(escapes.get(c) or (f"\\u{ord(c):04x}" if ord(c) < 32 or ord(c) == 127 else c) for c in text) + '"'
    )
