"""QR codes (ISO/IEC 18004) as inline pictures of a page."""

from __future__ import annotations

# The side of one module in CSS pixels: a link of sixty characters is then 3 cm wide.
SCALE = 3


def qr_svg(text: str) -> str:
    """The code of a text as an SVG element; "" if the package that draws it is not installed."""
    try:
        import segno
    except ImportError:
        return ""
    return str(segno.make(text, error="m", micro=False).svg_inline(scale=SCALE, border=4, light="#fff"))
