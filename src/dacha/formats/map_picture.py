"""A lab's map as a picture, independent of the drawing library.

Places are columns, from the outside on the left to guests on the right, and every door is a line from the column of its
origin to its guest: so no two lines cross, however many guests there are.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Protocol

from dacha.core.reach.map import BY_HAND, NOT_LED_IN, Band
from dacha.core.reach.reach import HOST, LAN, OUTSIDE

# Inches: a row, the space above a network, the whole width, and the left and right edges of its columns.
ROW, GAP, WIDTH, TOP = 0.30, 0.52, 12.8, 0.75
# The distance from the end of a network's box to the next row, and to the next box.
INSET, BETWEEN = 0.12, 0.12
OUTSIDE_X, LAN_X, HOST_X, GUESTS_X = (0.25, 2.15), (2.55, 4.05), (4.45, 6.85), (8.05, 12.55)
PAPER, INK, PALE, FAINT = "#fbfaf6", "#22261f", "#6b7064", "#d9d6cb"
FROM_OUTSIDE, FROM_LAN, FROM_HOST = "#8b2f4a", "#9a5b13", "#1f6f8b"
# The start and colour of a door's line, by origin.
BEGINS = {OUTSIDE: (OUTSIDE_X[1], FROM_OUTSIDE), LAN: (LAN_X[1], FROM_LAN), HOST: (HOST_X[1], FROM_HOST)}


class Pen(Protocol):
    """The drawing interface: positions in inches from the top left corner, text sizes in points."""

    def text(
        self, x: float, y: float, text: str, *, color: str = INK, size: float = 9, bold: bool = False,
        right: bool = False, middle: bool = False,
    ) -> None:  # fmt: skip
        """Text beside (x, y), vertically centred."""

    def label(self, x: float, y: float, text: str, color: str, *, right: bool) -> None:
        """Text over a line, with a background."""

    def box(self, left: float, right: float, top: float, bottom: float) -> None:
        """A frame with round corners."""

    def line(self, left: float, right: float, y: float, color: str, width: float) -> None:
        """A line of that many points."""

    def arrow(self, left: float, right: float, y: float, color: str) -> None:
        """A line with an arrowhead at its right end."""


def height(bands: Sequence[Band]) -> float:
    """The height of the picture (inches); its width is WIDTH."""
    return _bottom(bands) + 0.3


def _bottom(bands: Sequence[Band]) -> float:
    rows = sum(max(1, sum(max(1, len(p.entries)) for p in b.places)) for b in bands)
    return TOP + max(1.0, rows * ROW + len(bands) * (GAP + BETWEEN) - BETWEEN - INSET)


def draw(pen: Pen, title: str, bands: Sequence[Band], host: str) -> None:
    """Draw the map. `host` describes this host's address on the LAN."""
    bottom = _bottom(bands)
    pen.text(0.25, 0.32, title, size=13, bold=True)
    for (left, right), name, words in ((OUTSIDE_X, "outside", ""), (LAN_X, "LAN", ""), (HOST_X, "this host", host)):
        pen.box(left, right, TOP, bottom)
        pen.text(left + 0.12, TOP + 0.2, name, bold=True)
        pen.text(right - 0.12, TOP + 0.2, words, color=PALE, right=True)
    y = TOP
    for band in bands:
        y = _band(pen, band, y)


def _band(pen: Pen, band: Band, top: float) -> float:
    """One network with its guests, from `top` down; returns the start of the next."""
    count = max(1, sum(max(1, len(p.entries)) for p in band.places))
    bottom = top + GAP - INSET + count * ROW
    left, right = GUESTS_X
    pen.box(left, right, top, bottom)
    pen.text(left + 0.12, top + 0.2, band.name or "no network", bold=True)
    pen.text(right - 0.12, top + 0.2, band.words if band.name else "", color=PALE, right=True)
    if band.way_out:
        pen.line(HOST_X[1], left, top + 0.2, FAINT, 1.2)
        pen.text((HOST_X[1] + left) / 2, top + 0.11, "NAT", color=PALE, size=7.5, middle=True)
    elif band.on_lan:
        pen.line(LAN_X[1], left, top + 0.2, FAINT, 1.2)
    y = top + GAP
    for place in band.places:
        pen.text(left + 0.3, y, place.guest)
        pen.text(left + 1.75, y, place.address, color=PALE)
        for entry in place.entries:
            begin, color = BEGINS[entry.origin]
            if entry.router in (NOT_LED_IN, BY_HAND):
                begin = LAN_X[1]  # its known part begins there
            pen.arrow(begin, left + 0.22, y, color)
            if entry.router:
                pen.label(OUTSIDE_X[0] + 0.12, y, str(entry.router), color, right=False)
            own = entry.origin == HOST
            pen.label(HOST_X[1] - 0.12 if own else HOST_X[0] + 0.12, y, str(entry.at), color, right=own)
            pen.text(right - 0.12, y, entry.to, color=color, right=True)
            y += ROW
        y += 0 if place.entries else ROW
    return bottom + INSET + BETWEEN
