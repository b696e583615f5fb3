"""Standard streams that may fail: work continues, whether or not its output can be written. Characters that a stream's
encoding lacks are replaced: an arrow by ->."""

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
    """Why standard output failed, if that is worth a message: a closed pipe means that the reader has enough."""

    why: OSError | ValueError | None = None
    # The lost output was an answer for a script, not a report of work.
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
    """Make the streams writable in any case. A closed stream discards its output."""
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
    """Write a line; a failed stream is not written to again."""
    to = stream or sys.stdout
    try:
        to.write(text + "\n")
        if flush:
            to.flush()
    except (OSError, ValueError) as e:
        lose(e, to)


def flush() -> None:
    """Let a reader of the output see what was written so far."""
    try:
        sys.stdout.flush()
    except (OSError, ValueError) as e:
        lose(e, sys.stdout)


def pass_on(said: bytes, stream: TextIO) -> None:
    """Pass on the output of another program: unchanged to a file, escaped to a terminal."""
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
    """Let a failed stream discard its output."""
    if stream is sys.stdout and not isinstance(error, BrokenPipeError) and Lost.why is None:
        Lost.why = error
    nowhere = os.open(os.devnull, os.O_WRONLY)
    number = 1 if stream is sys.stdout else 2
    os.dup2(nowhere, number)
    os.close(nowhere)
    replaced = open(number, "w", encoding="utf-8", errors=HANDLER, closefd=False)
    setattr(sys, "stdout" if number == 1 else "stderr", replaced)


def end() -> str | None:
    """Flush the streams; returns a message about lost output, for standard error."""
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
