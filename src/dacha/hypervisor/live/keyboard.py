"""Text and key names as QMP key codes (QKeyCode), for a US keyboard layout."""

from __future__ import annotations

from dacha.core.errors import UsageError
from dacha.core.spelling import did_you_mean

_PLAIN = {
    " ": "spc",
    "-": "minus",
    "=": "equal",
    "[": "bracket_left",
    "]": "bracket_right",
    ";": "semicolon",
    "'": "apostrophe",
    "`": "grave_accent",
    "\\": "backslash",
    ",": "comma",
    ".": "dot",
    "/": "slash",
    "\n": "ret",
    "\t": "tab",
}
_SHIFTED = dict(zip('!@#$%^&*()_+{}:"~|<>?', "1234567890-=[];'`\\,./", strict=True))
_NAMES = {
    "enter": "ret",
    "escape": "esc",
    "space": "spc",
    "tab": "tab",
    "backspace": "backspace",
    "delete": "delete",
    "insert": "insert",
    "home": "home",
    "end": "end",
    "page-up": "pgup",
    "page-down": "pgdn",
    "up": "up",
    "down": "down",
    "left": "left",
    "right": "right",
    "ctrl": "ctrl",
    "alt": "alt",
    "shift": "shift",
    "super": "meta_l",
} | {f"f{n}": f"f{n}" for n in range(1, 13)}

Chord = list[str]


def chords_of_text(text: str) -> list[Chord]:
    """The keys to press, one list per character. Raises UsageError for a character that this layout does not have."""
    chords = []
    for c in text:
        plain = _SHIFTED.get(c, c.lower())
        code = _PLAIN.get(plain) or (plain if plain.isascii() and plain.isalnum() else None)
        if code is None:
            raise UsageError(f"{c!r} cannot be typed on a US keyboard", remedy="use a login instead: dacha connect")
        chords.append(["shift", code] if c in _SHIFTED or c.isupper() else [code])
    return chords


def chord_of_name(name: str) -> Chord:
    """The keys of "enter", "f2", "ctrl-alt-delete". Raises UsageError with the most similar name."""
    codes, rest = [], name.lower()
    while rest:
        # A key's own name may contain a hyphen, so the longest matching name is tried first.
        word = next((n for n in sorted(_NAMES, key=len, reverse=True) if rest == n or rest.startswith(n + "-")), None)
        word = word or rest.partition("-")[0]
        code = _NAMES.get(word) or (word if len(word) == 1 and word.isascii() and word.isalnum() else None)
        if code is None:
            raise UsageError(f"unknown key {word}", remedy=did_you_mean(word, _NAMES))
        codes.append(code)
        rest = rest[len(word) + 1 :]
    return codes
