"""Tables as wide as the terminal: columns if they fit, else wrapped cells, else a block for each row.

Nothing is truncated: what users copy (an address, a command) stays on one line wherever the terminal has room. In a
file or a pipe, a table is as wide as necessary.
"""

from __future__ import annotations

import os
import re
import sys
from collections.abc import Iterator, Sequence

_GAP = 2
# Cells are wrapped only if their column keeps at least this width.
_LEAST = 12


def columns() -> int | None:
    """The width of the terminal that gets the output; None for a file or a pipe."""
    if not sys.stdout.isatty():
        return None
    try:
        width = int(os.environ.get("COLUMNS") or 0) or os.get_terminal_size().columns
    except (OSError, ValueError):
        return None
    return width if width > 0 else None


def wrapped(text: str, width: int) -> list[str]:
    """The text in lines of at most `width` characters, broken only between words: a longer word has a line of its
    own."""
    lines, line = [], ""
    for word in re.findall(r"\S+\s*", text) or [""]:
        if line and len(line) + len(word.rstrip()) > width:
            lines.append(line.rstrip())
            line = ""
        line += word
    return [*lines, line.rstrip()]


def widths(headers: Sequence[str], rows: Sequence[Sequence[str]], room: int | None) -> list[int] | None:
    """The width of each column; None if no table fits."""
    full = [max(map(len, column)) for column in zip(headers, *rows, strict=True)]
    if room is None or _total(full) <= room:
        return full
    # The minimum of a column: its longest word, or its whole text if that is short.
    least = [min(whole, max(_LEAST, max(_longest(r[n]) for r in [headers, *rows]))) for n, whole in enumerate(full)]
    if _total(least) > room:
        return None
    while _total(full) > room:
        # The widest shrinks first.
        n = max((n for n in range(len(full)) if full[n] > least[n]), key=lambda n: full[n])
        full[n] -= 1
    return full


def _total(wide: Sequence[int]) -> int:
    return sum(wide) + _GAP * (len(wide) - 1)


def _longest(text: str) -> int:
    return max(map(len, text.split()), default=0)


def row_lines(row: Sequence[str], wide: Sequence[int]) -> Iterator[list[str]]:
    """The lines of one row, each with its cells; what does not fit continues below."""
    if all(len(cell) <= width for cell, width in zip(row, wide, strict=True)):
        yield list(row)  # unchanged, and fast: a large lab has thousands of them
        return
    cells = [wrapped(cell, width) for cell, width in zip(row, wide, strict=True)]
    for n in range(max(map(len, cells))):
        yield [cell[n] if n < len(cell) else "" for cell in cells]


def block(headers: Sequence[str], row: Sequence[str], room: int) -> Iterator[str]:
    """One row as a block: its first cell, and below it the others with their titles, except empty ones."""
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
