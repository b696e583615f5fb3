"""A lab's map as PNG, drawn by matplotlib where that is installed."""

from __future__ import annotations

import io
from collections.abc import Sequence
from typing import Any

from dacha.core.reach.map import Band
from dacha.formats.map_picture import FAINT, INK, PAPER, WIDTH, draw, height


def png(title: str, bands: Sequence[Band], host: str) -> bytes:
    """The picture. Raises ImportError without matplotlib."""
    import matplotlib

    matplotlib.use("Agg")
    from matplotlib.figure import Figure

    high = height(bands)
    figure = Figure(figsize=(WIDTH, high), facecolor=PAPER)
    axes = figure.add_axes((0, 0, 1, 1))
    axes.set_xlim(0, WIDTH)
    axes.set_ylim(high, 0)
    axes.axis("off")
    draw(_FigurePen(axes), title, bands, host)
    out = io.BytesIO()
    figure.savefig(out, format="png", dpi=100, facecolor=PAPER)
    return out.getvalue()


class _FigurePen:
    """Draws into axes whose units are inches."""

    def __init__(self, axes: Any) -> None:
        self._axes = axes

    def text(
        self, x: float, y: float, text: str, *, color: str = INK, size: float = 9, bold: bool = False,
        right: bool = False, middle: bool = False,
    ) -> None:  # fmt: skip
        side = "right" if right else "center" if middle else "left"
        self._axes.text(
            x, y, text, color=color, fontsize=size, fontweight="bold" if bold else "normal", ha=side, va="center"
        )

    def label(self, x: float, y: float, text: str, color: str, *, right: bool) -> None:
        """Text over a line, that stays readable."""
        back = {"facecolor": PAPER, "edgecolor": "none", "pad": 1.2}
        self._axes.text(x, y, text, color=color, fontsize=8.5, ha="right" if right else "left", va="center", bbox=back)

    def box(self, left: float, right: float, top: float, bottom: float) -> None:
        from matplotlib.patches import FancyBboxPatch

        style = "round,pad=0,rounding_size=0.06"
        size = (right - left, bottom - top)
        self._axes.add_patch(FancyBboxPatch((left, top), *size, boxstyle=style, facecolor="none", edgecolor=FAINT))

    def line(self, left: float, right: float, y: float, color: str, width: float) -> None:
        self._axes.plot([left, right], [y, y], color=color, linewidth=width, solid_capstyle="butt")

    def arrow(self, left: float, right: float, y: float, color: str) -> None:
        self._axes.annotate("", (right, y), (left, y), arrowprops={"arrowstyle": "-|>", "color": color, "lw": 1.1,
                                                                    "shrinkA": 0, "shrinkB": 0})  # fmt: skip
