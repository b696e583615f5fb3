"""Text from outside (banners, names, consoles, file names), escaped for a terminal, in one place."""

from __future__ import annotations

import codecs
import re

# Control characters (ISO/IEC 6429, C0 and C1), and those that change the writing direction (Unicode standard annex 9),
# which can make a line look like another.
_BEYOND_ASCII = (*range(0x7F, 0xA0), 0x200E, 0x200F, *range(0x2028, 0x202F), *range(0x2066, 0x206A))
_WRITTEN = {c: f"\\x{c:02x}" for c in (*range(9), *range(0x0A, 0x20), *_BEYOND_ASCII)} | {9: " "}
_IN_JSON = {c: f"\\u{c:04x}" for c in _BEYOND_ASCII}


def harmless(text: str) -> str:
    """The text with each such character escaped, such as \x1b; tabs become spaces."""
    return text.translate(_WRITTEN)


def harmless_lines(text: str) -> str:
    """The same for text of several lines."""
    return "\n".join(harmless(line) for line in text.split("\n"))


def harmless_json(text: str) -> str:
    """JSON in which such characters, allowed only in strings, are escaped as JSON escapes (RFC 8259)."""
    return text.translate(_IN_JSON)


class TerminalText:
    """A guest's console output, for a terminal: text and colours (ISO/IEC 6429, SGR) pass, every other control
    character is escaped. It is fed in pieces of any size."""

    _COLOUR = r"\[[0-9;]{0,40}m"
    _UNSAFE = re.compile(rf"\x1b(?!{_COLOUR})|[\x00-\x07\x0b\x0c\x0e-\x1a\x1c-\x1f{''.join(map(chr, _BEYOND_ASCII))}]")
    # The start of an unfinished colour sequence.
    _BEGUN = re.compile(r"\x1b(?:\[[0-9;]{0,40})?$")

    def __init__(self) -> None:
        # An invalid UTF-8 byte is replaced: as an eight-bit control it could be misread.
        self._decoder = codecs.getincrementaldecoder("utf-8")("replace")
        self._held = ""

    def feed(self, data: bytes, *, last: bool = False) -> str:
        """The text that can be shown so far; after the `last` piece nothing is held back."""
        text = self._held + self._decoder.decode(data, last)
        begun = None if last else self._BEGUN.search(text)
        self._held = begun[0] if begun else ""
        return self._UNSAFE.sub(lambda m: _WRITTEN[ord(m[0])], text[: len(text) - len(self._held)])
