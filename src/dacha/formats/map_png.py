"""A lab's map as PNG, drawn by Pillow if it is installed."""

from __future__ import annotations

import io
from collections.abc import Sequence
from typing import Any

from dacha.core.reach.map import Band
from dacha.formats.map_picture import FAINT, INK, PAPER, WIDTH, draw, height

# Pixels per inch; the picture is drawn larger by this factor, and scaled down at the end for smooth lines.
INCH, LARGER = 100, 4
# Fonts, if this host has them; else the library's own, which has no bold face.
FACES = {False: "DejaVuSans.ttf", True: "DejaVuSans-Bold.ttf"}


def png(title: str, bands: Sequence[Band], host: str) -> bytes:
    """The picture. Raises ImportError without Pillow."""
    from PIL import Image, ImageDraw

    size = round(WIDTH * INCH), round(height(bands) * INCH)
    image = Image.new("RGB", (size[0] * LARGER, size[1] * LARGER), PAPER)
    draw(_ImagePen(ImageDraw.Draw(image)), title, bands, host)
    out = io.BytesIO()
    image.resize(size, Image.Resampling.LANCZOS).save(out, "png", optimize=True)
    return out.getvalue()


def _pixels(inches: float) -> int:
    return round(inches * INCH * LARGER)


def _points(points: float) -> float:
    return points * INCH * LARGER / 72


class _ImagePen:
    """Draws into an image, in pixels."""

    def __init__(self, image: Any) -> None:
        self._image = image
        self._fonts: dict[tuple[float, bool], tuple[Any, int]] = {}

    def _font(self, size: float, bold: bool) -> tuple[Any, int]:
        """The font, and how much wider its strokes are drawn to look bold."""
        from PIL import ImageFont

        if (size, bold) not in self._fonts:
            try:
                self._fonts[size, bold] = ImageFont.truetype(FACES[bold], _points(size)), 0
            except OSError:
                self._fonts[size, bold] = ImageFont.load_default(_points(size)), round(_points(0.3)) if bold else 0
        return self._fonts[size, bold]

    def text(
        self, x: float, y: float, text: str, *, color: str = INK, size: float = 9, bold: bool = False,
        right: bool = False, middle: bool = False,
    ) -> None:  # fmt: skip
        font, wider = self._font(size, bold)
        # On a common base line: half of a capital's height below the middle.
        base = _pixels(y) - font.getbbox("H", anchor="ls")[1] / 2
        side = "r" if right else "m" if middle else "l"
        self._image.text((_pixels(x), base), text, font=font, fill=color, anchor=f"{side}s", stroke_width=wider)

    def label(self, x: float, y: float, text: str, color: str, *, right: bool) -> None:
        """Text over a line, with a background."""
        left, top, end, bottom = self._image.textbbox(
            (_pixels(x), _pixels(y)), text, font=self._font(8.5, False)[0], anchor="rm" if right else "lm"
        )
        free = _pixels(0.02)
        self._image.rectangle((left - free, top - free, end + free, bottom + free), fill=PAPER)
        self.text(x, y, text, color=color, size=8.5, right=right)

    def box(self, left: float, right: float, top: float, bottom: float) -> None:
        corners = tuple(map(_pixels, (left, top, right, bottom)))
        self._image.rounded_rectangle(corners, _pixels(0.06), outline=FAINT, width=round(_points(1)))

    def line(self, left: float, right: float, y: float, color: str, width: float) -> None:
        self._image.line((_pixels(left), _pixels(y), _pixels(right), _pixels(y)), color, round(_points(width)))

    def arrow(self, left: float, right: float, y: float, color: str) -> None:
        self.line(left, right - 0.07, y, color, 1.1)
        back, half, high = _pixels(right - 0.085), _pixels(0.034), _pixels(y)
        self._image.polygon([(_pixels(right), high), (back, high - half), (back, high + half)], fill=color)
