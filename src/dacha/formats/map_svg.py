"""A lab's map as SVG 1.1: text stays text, and no library is needed."""

from __future__ import annotations

from collections.abc import Sequence
from xml.sax.saxutils import escape, quoteattr

from dacha.core.reach.map import Band
from dacha.formats.map_picture import FAINT, INK, PAPER, WIDTH, draw, height

# User units per inch and point. A label covers the line below it: the width of a digit (relative to its size), and the
# margin.
INCH, POINT, DIGIT, FREE = 100, 100 / 72, 0.58, 3


def svg(title: str, bands: Sequence[Band], host: str) -> bytes:
    """The picture; the same lab gives the same bytes."""
    pen = _SvgPen()
    draw(pen, title, bands, host)
    size = f"{WIDTH * INCH:.0f}", f"{height(bands) * INCH:.0f}"
    head = (
        f'<svg xmlns="http://www.w3.org/2000/svg" width="{size[0]}" height="{size[1]}" '
        f'viewBox="0 0 {size[0]} {size[1]}" font-family="DejaVu Sans, Verdana, sans-serif" role="img">'
    )
    lines = [head, f"<title>{escape(title)}</title>", f'<rect width="100%" height="100%" fill="{PAPER}"/>']
    return "\n".join([*lines, *pen.parts, "</svg>", ""]).encode()


def _number(inches: float) -> str:
    return f"{inches * INCH:.1f}".rstrip("0").rstrip(".")


class _SvgPen:
    """Writes elements as it draws."""

    def __init__(self) -> None:
        self.parts: list[str] = []

    def text(
        self, x: float, y: float, text: str, *, color: str = INK, size: float = 9, bold: bool = False,
        right: bool = False, middle: bool = False,
    ) -> None:  # fmt: skip
        self._text(x, y, text, color, size, "end" if right else "middle" if middle else "start", bold=bold)

    def label(self, x: float, y: float, text: str, color: str, *, right: bool) -> None:
        points = 8.5 * POINT
        wide = len(text) * points * DIGIT + 2 * FREE
        begin = x * INCH - FREE if not right else x * INCH + FREE - wide
        self.parts.append(
            f'<rect x="{begin:.1f}" y="{y * INCH - points * 0.6:.1f}" width="{wide:.1f}" '
            f'height="{points * 1.2:.1f}" fill="{PAPER}"/>'
        )
        self._text(x, y, text, color, 8.5, "end" if right else "start")

    def _text(self, x: float, y: float, text: str, color: str, size: float, anchor: str, *, bold: bool = False) -> None:
        if not text:
            return
        points = size * POINT
        # Half of its height: digits and capitals have seven tenths of the font size (viewers disagree on baselines).
        base = y * INCH + points * 0.36
        weight, paint = ' font-weight="bold"' if bold else "", f"fill={quoteattr(color)}"
        side = "" if anchor == "start" else f' text-anchor="{anchor}"'
        self.parts.append(
            f'<text x="{_number(x)}" y="{base:.1f}" font-size="{points:.1f}" {paint}{side}{weight}>'
            f"{escape(text)}</text>"
        )

    def box(self, left: float, right: float, top: float, bottom: float) -> None:
        self.parts.append(
            f'<rect x="{_number(left)}" y="{_number(top)}" width="{_number(right - left)}" '
            f'height="{_number(bottom - top)}" rx="6" fill="none" stroke="{FAINT}" stroke-width="1.4"/>'
        )

    def line(self, left: float, right: float, y: float, color: str, width: float) -> None:
        self.parts.append(
            f'<path d="M{_number(left)} {_number(y)}H{_number(right)}" stroke="{color}" '
            f'stroke-width="{width * POINT:.1f}"/>'
        )

    def arrow(self, left: float, right: float, y: float, color: str) -> None:
        tip, high = right * INCH, y * INCH
        self.line(left, right - 0.07, y, color, 1.1)
        self.parts.append(f'<path d="M{tip:.1f} {high:.1f}l-8.5 -3.4v6.8z" fill="{color}"/>')
