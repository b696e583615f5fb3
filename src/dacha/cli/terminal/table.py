"""Tables as wide as the terminal: columns where they fit, else wrapped cells, else a block for each row.

Nothing is cut: what has to be copied (an address, a command) stands whole on a line wherever the terminal has the room.
Where the answer goes into a file or a pipe, a table is as wide as it needs.
"""

from __future__ import annotations

import os
import re
import sys
from collections.abc import Iterator, Sequence

_GAP = 2
# Cells are broken between words only, where a column keeps at least this much; narrower ones are a riddle.
_LEAST = 12


def columns() -> int | None:
    """How wide the terminal is that the answer goes to; None where it goes elsewhere."""
    if not sys.stdout.isatty():
        return None
    try:
        width = int(os.environ.get("COLUMNS") or 0) or os.get_terminal_size().columns
    except (OSError, ValueError):
        return None
    return width if width > 0 else None


def wrapped(text: str, width: int) -> list[str]:
    """The text in lines of at most `width` signs, broken between words alone: a longer word has a line of its own."""
    lines, line = [], ""
    for word in re.findall(r"\S+\s*", text) or [""]:
        if line and len(line) + len(word.rstrip()) > width:
            lines.append(line.rstrip())
            line = ""
        line += word
    return [*lines, line.rstrip()]


def widths(headers: Sequence[str], rows: Sequence[Sequence[str]], room: int | None) -> list[int] | None:
    """How wide each column is to be; None where no table fits the room."""
    full = [max((len(r[n]) for r in [headers, *rows]), default=0) for n in range(len(headers))]
    if room is None or _total(full) <= room:
        return full
    # What a column cannot do without: its longest word, or its whole text where that is short.
    least = [min(whole, max(_LEAST, max(_longest(r[n]) for r in [headers, *rows]))) for n, whole in enumerate(full)]
    if _total(least) > room:
        return None
    while _total(full) > room:
        # The widest gives way first.
        n = max((n for n in range(len(full)) if full[n] > least[n]), key=lambda n: full[n])
        full[n] -= 1
    return full


def _total(wide: Sequence[int]) -> int:
    return sum(wide) + _GAP * (len(wide) - 1)


def _longest(text: str) -> int:
    return max(map(len, text.split()), default=0)


def row_lines(row: Sequence[str], wide: Sequence[int]) -> Iterator[list[str]]:
    """The lines of one row, each with its cells; what does not fit goes on below."""
    if all(len(cell) <= width for cell, width in zip(row, wide, strict=True)):
        yield list(row)  # as it is, and in no time: a large lab has thousands of them
        return
    cells = [wrapped(cell, width) for cell, width in zip(row, wide, strict=True)]
    for n in range(max(map(len, cells))):
        yield [cell[n] if n < len(cell) else "" for cell in cells]


def block(headers: Sequence[str], row: Sequence[str], room: int) -> Iterator[str]:
    """One row as a block: its first cell, and the others below with their titles before them, empty ones left out."""
    if row[0]:
        yield f"{headers[0].lower()} {row[0]}".lstrip()
    named = [(h.lower() if h.isupper() else h, cell) for h, cell in zip(headers[1:], row[1:], strict=True) if cell]
    indent = max((len(h) for h, _ in named), default=0) + 2 + _GAP
    if indent > room // 2:
        indent = 4
    for head, cell in named:
        first, *more = wrapped(cell, room - indent)
        if len(head) + 2 + _GAP > indent:
            yield f"  {head}"
            head = ""
        yield f"  {head}".ljust(indent) + first
        yield from (" " * indent + line for line in more)
