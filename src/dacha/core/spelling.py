"""The most similar known name for a mistyped one."""

from __future__ import annotations

from collections.abc import Iterable

# The required similarity of two names (difflib's ratio): they differ in a letter or two. Nobody means "probe" by
# "frobnicate".
CLOSE = 0.65


def nearest(word: str, known: Iterable[str]) -> str | None:
    """The known name most similar to `word`, or None if none is similar enough."""
    from difflib import get_close_matches  # late: only a mistake needs it

    names = sorted(known)
    close = get_close_matches(word.lower(), names, n=1, cutoff=CLOSE)
    return close[0] if close else None


def did_you_mean(word: str, known: Iterable[str], nothing: str = "") -> str:
    """A remedy: the most similar known name, else the list of all (at most twelve)."""
    names = sorted(known)
    close = nearest(word, names)
    if close:
        return f"did you mean {close}?"
    if not names:
        return nothing
    shown = ", ".join(names[:12]) + (f" and {len(names) - 12} more" if len(names) > 12 else "")
    return f"known here: {shown}"
