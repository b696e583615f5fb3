"""Output: sentences, tables, JSON. Colour only on a terminal, and never with NO_COLOR."""

from __future__ import annotations

import json
import os
import sys
from collections.abc import Callable, Iterable, Sequence
from typing import TYPE_CHECKING, Any

from dacha.cli.terminal.streams import Lost, put
from dacha.cli.terminal.table import block, columns, row_lines, widths, wrapped
from dacha.core.findings import Finding
from dacha.core.harmless import harmless_json, harmless_lines

if TYPE_CHECKING:
    from dacha.core.endpoint import Endpoint

# The columns of a step's line, if there is room for them.
STEP = 93
GOOD, BAD, DIM, STRONG = "32", "31", "2", "1"


def coloured(stream: Any = None) -> bool:
    stream = stream or sys.stdout
    return "NO_COLOR" not in os.environ and os.environ.get("TERM") != "dumb" and stream.isatty()


# Colours are marks in the text until it is printed: escape sequences in it come from others. The marks are unique to
# this process.
_KEY = os.urandom(6).hex()
_BEGIN, _END = f"\ue000{_KEY}:", f"\ue001{_KEY}:"


def paint(text: str, colour: str, stream: Any = None) -> str:
    return f"{_BEGIN}{colour};{text}{_END}" if coloured(stream) else text


def shown(text: str) -> str:
    """Text for a terminal: escaped, with its own colours."""
    text = harmless_lines(text)
    if _KEY not in text:
        return text
    head, *parts = text.replace(_END, "\x1b[0m").split(_BEGIN)
    return head + "".join(f"\x1b[{colour}m{rest}" for colour, _, rest in (part.partition(";") for part in parts))


def say(text: str = "") -> None:
    put(shown(text))


def note(text: str) -> None:
    """A message beside the answer: progress, waiting, advice. Goes to standard error."""
    put(shown(text), sys.stderr, flush=True)


# Raised when a member of an answer changes its name or meaning; docs/json.md documents them.
JSON_VERSION = 1


def emit_json(value: dict[str, Any]) -> None:
    """An answer for a script: an object with the version of its format, and null for missing values."""
    _answer(json.dumps({"version": JSON_VERSION, **_plain(value)}, indent=1, ensure_ascii=_ascii(), default=str))


def emit_line(value: dict[str, Any]) -> None:
    """One of many answers for a script: the same in one line."""
    _answer(json.dumps({"version": JSON_VERSION, **_plain(value)}, ensure_ascii=_ascii(), default=str))


def _plain(value: Any) -> Any:
    """The same with null in place of empty texts."""
    if isinstance(value, dict):
        return {key: _plain(inner) for key, inner in value.items()}
    if isinstance(value, list | tuple):
        return [_plain(inner) for inner in value]
    return None if isinstance(value, str) and not value else value


def moment(unix_s: float | None) -> str | None:
    """A time for scripts: ISO 8601, in UTC, to the second."""
    if unix_s is None:
        return None
    from time import gmtime, strftime

    return strftime("%Y-%m-%dT%H:%M:%SZ", gmtime(unix_s))


def place_json(place: Endpoint | None) -> dict[str, Any]:
    """The address and the port of an endpoint; null without one."""
    return {"address": place.address, "port": place.port} if place else {"address": None, "port": None}


def _ascii() -> bool:
    """True if JSON must be written in ASCII (RFC 8259 section 7): replacing a character would change the text."""
    return (sys.stdout.encoding or "").lower().replace("-", "") not in ("utf8", "utf8sig")


def _answer(text: str) -> None:
    """Print an answer for scripts."""
    Lost.answer = True
    put(harmless_json(text))


def table(
    headers: Sequence[str], rows: Iterable[Sequence[str]], colour: Callable[[int, str], str | None] = lambda n, c: None
) -> None:
    """Print aligned columns, two spaces apart; on a narrow terminal cells are wrapped, or each row becomes a block.
    `colour` may return a colour for a cell by column and text."""
    body = [[str(c) for c in row] for row in rows]
    room = columns()
    wide = widths(headers, body, room)
    if wide is None and room is not None:
        for row in body:
            for n, text in enumerate(block(headers, row, room)):
                say(text if n or not row[0] else paint(text, STRONG))
        return
    assert wide is not None
    if room is None and not coloured():
        # Nothing is wrapped: a large lab has thousands of rows, and this is fast.
        form = "  ".join(f"{{:<{w}}}" for w in wide)
        say("\n".join(form.format(*row).rstrip() for row in [headers, *body]))
        return
    for line in row_lines(headers, wide):
        say(paint("  ".join(h.ljust(w) for h, w in zip(line, wide, strict=True)).rstrip(), DIM))
    for row in body:
        shades = [colour(n, cell) for n, cell in enumerate(row)]
        for line in row_lines(row, wide):
            cells = [*(c.ljust(w) for c, w in zip(line[:-1], wide[:-1], strict=True)), *line[-1:]]
            say("  ".join(paint(c, s) if s else c for c, s in zip(cells, shades, strict=True)).rstrip())


def named(name: str, text: str, width: int = 19) -> None:
    """A line of a list of names, each with a description."""
    hang(f"{name:<{width}} ", text, width + 1)


def hang(head: str, text: str, indent: int, shade: str | None = None) -> None:
    """A sentence after a prefix of that many characters; on a narrow terminal it is wrapped below itself, only between
    words. Commands are never broken, so that they can be copied."""
    room = columns()
    left = room - indent if room and room >= 2 * indent else None
    lines = [w for part in text.splitlines() or [""] for w in (wrapped(part, left) if left else [part])]
    for n, line in enumerate(lines):
        whole = f"{' ' * indent if n else head}{line}"
        say(paint(whole, shade) if shade else whole)


def step(subject: str, text: str, right: str = "") -> None:
    """One step: subject, what happened, and how long it took."""
    room = columns() or STEP
    line = f"  {subject:<17}  {text:<{min(58, max(0, room - 35))}}"
    put(shown(f"{line}  {right:>12}".rstrip() if right else line.rstrip()), flush=True)


def seconds(value: float) -> str:
    """A step's duration, omitted if it is negligible."""
    return f"{value:.1f} s" if value >= 0.05 else ""


def show_findings(name: str, findings: Iterable[Finding]) -> None:
    """Findings as `check` prints them: place, what, and the remedy below."""
    for f in findings:
        place = f"{name}:{f.line}" if f.line else "this host" if f.subject == "host" else "lab"
        shade = {"error": BAD, "note": DIM}.get(f.severity)
        subject = "" if f.subject in ("lab", "host") else f"{f.subject}: "
        hang(f"{place:<13} ", f"{f.severity}: {subject}{f.what}", 14, shade)
        for line in f.remedy.splitlines():
            say(f"{'':<13} {line}")


def finding_json(name: str, f: Finding) -> dict[str, Any]:
    return {
        "severity": f.severity,
        "code": f.code,
        "about": f.about,
        "file": name,
        "line": f.line,
        "key": ".".join(str(p) for p in f.path),
        "subject": f.subject,
        "what": f.what,
        "remedy": f.remedy,
    }


def emit_rows(head: dict[str, Any], key: str, rows: Iterable[Any]) -> None:
    """The same for long lists: `head` with `key` as its last entry, one row per line. It is much faster."""
    ascii_only = _ascii()
    head = {"version": JSON_VERSION, **head}
    body = ",\n".join(json.dumps(row, ensure_ascii=ascii_only) for row in rows)
    _answer(f"{json.dumps(head, ensure_ascii=ascii_only)[:-1]}, {json.dumps(key)}: [\n{body}\n]}}")


def plural(count: int, word: str) -> str:
    return f"{count} {word}" if count == 1 else f"{count} {word}s"
