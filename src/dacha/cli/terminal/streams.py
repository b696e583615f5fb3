"""Standard streams that may fail: work goes on to its end, whether or not anybody can read what it says.

What a stream's encoding has no sign for is written by others: an arrow as ->.
"""

from __future__ import annotations

import codecs
import errno
import os
import sys
from typing import TextIO

_SIGNS = {
    "→": "->", "←": "<-", "─": "-", "═": "=", "│": "|", "└": "`", "├": "|", "…": "...", "×": "x", "·": ".",
    "‘": "'", "’": "'", "“": '"', "”": '"', "–": "-", "—": "-", "µ": "u", "≤": "<=", "≥": ">=", "ß": "ss",
}  # fmt: skip
HANDLER = "dacha-signs"


class Lost:
    """Why standard output was lost, as far as that is worth a word: whoever closes a pipe has read enough."""

    why: OSError | ValueError | None = None
    # What was lost was the answer itself, for a script, and not a report of work.
    answer = False


def _spelled(error: UnicodeError) -> tuple[str, int]:
    assert isinstance(error, UnicodeEncodeError)
    text = error.object[error.start : error.end]
    return "".join(_SIGNS.get(c) or _plain(c) for c in text), error.end


def _plain(sign: str) -> str:
    """A letter without its accents, or a question mark."""
    import unicodedata

    letter = unicodedata.normalize("NFKD", sign)[:1]
    return letter if letter.isascii() and letter.isprintable() else "?"


def prepare() -> None:
    """Make the streams fit to be written to, whatever they are. A stream that was closed leads nowhere."""
    codecs.register_error(HANDLER, _spelled)
    for name in ("stdout", "stderr"):
        stream = getattr(sys, name)
        if stream is None:
            setattr(sys, name, open(os.devnull, "w", encoding="utf-8"))
            if name == "stdout":
                Lost.why = OSError(errno.EBADF, "it is closed")
        else:
            stream.reconfigure(errors=HANDLER)


def put(text: str, stream: TextIO | None = None, *, flush: bool = False) -> None:
    """Write a line; a stream that takes none is not written to any more."""
    to = stream or sys.stdout
    try:
        to.write(text + "\n")
        if flush:
            to.flush()
    except (OSError, ValueError) as e:
        lose(e, to)


def pass_on(said: bytes, stream: TextIO) -> None:
    """Write what somebody else said: to a file as it is, to a terminal made harmless."""
    from dacha.core.harmless import harmless_lines

    try:
        stream.flush()
        if stream.isatty():
            stream.write(harmless_lines(said.decode("utf-8", "replace")))
        else:
            stream.buffer.write(said)
        stream.flush()
    except (OSError, ValueError) as e:
        lose(e, stream)


def lose(error: OSError | ValueError, stream: TextIO) -> None:
    """Let a stream that cannot be written to lead nowhere."""
    if stream is sys.stdout and not isinstance(error, BrokenPipeError) and Lost.why is None:
        Lost.why = error
    nowhere = os.open(os.devnull, os.O_WRONLY)
    number = 1 if stream is sys.stdout else 2
    os.dup2(nowhere, number)
    os.close(nowhere)
    replaced = open(number, "w", encoding="utf-8", errors=HANDLER, closefd=False)
    setattr(sys, "stdout" if number == 1 else "stderr", replaced)


def end() -> str | None:
    """Bring what is still held to the streams; a word on what was lost, for standard error."""
    for stream in (sys.stdout, sys.stderr):
        try:
            stream.flush()
        except (OSError, ValueError) as e:
            lose(e, stream)
    if Lost.why is None:
        return None
    words = getattr(Lost.why, "strerror", None) or str(Lost.why)
    if Lost.answer:
        return f"the output could not be written: {words.lower()}"
    return f"the output could not be written: {words.lower()}; the command itself was completed"
