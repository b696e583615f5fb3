"""Text that comes from outside (banners, names, consoles, file names) made harmless for a terminal, in one place."""

from __future__ import annotations

import re

# Control characters of both kinds (ISO/IEC 6429, C0 and C1), and those that turn the direction of writing (Unicode
# standard annex 9), by which a line can be made to read as another.
_CONTROL = re.compile("[\x00-\x08\x0a-\x1f\x7f-\x9f\u200e\u200f\u2028-\u202e\u2066-\u2069]")

_BEYOND_ASCII = re.compile("[\x7f-\x9f\u200e\u200f\u2028-\u202e\u2066-\u2069]")


def harmless(text: str) -> str:
    """The text with each such character written out, as \\x1b; tabs become blanks."""
    return _CONTROL.sub(lambda m: f"\\x{ord(m[0]):02x}", text.replace("\t", " "))


def harmless_lines(text: str) -> str:
    """The same for text of several lines."""
    return "\n".join(harmless(line) for line in text.split("\n"))


def harmless_json(text: str) -> str:
    """JSON, in which such characters may only stand in strings, with them written as JSON writes them (RFC 8259)."""
    return _BEYOND_ASCII.sub(lambda m: f"\\u{ord(m[0]):04x}", text)
