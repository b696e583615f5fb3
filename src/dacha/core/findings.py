"""A finding of `check`, with its place and its remedy."""

from __future__ import annotations

from collections.abc import Iterable

from dacha.core.named import NamedTuple

Path = tuple[str | int, ...]

ERROR, WARNING, NOTE = "error", "warning", "note"


class Finding(NamedTuple):
    """One problem or notable fact. `code` is a stable name for scripts; `about` is "lab" if the file itself is wrong,
    "host" if this host cannot or should not run it; `path` is the key in the lab file, () for the whole lab."""

    severity: str
    code: str
    subject: str
    what: str
    remedy: str = ""
    path: Path = ()
    about: str = "lab"
    line: int | None = None


def errors(findings: Iterable[Finding]) -> list[Finding]:
    """The findings that prevent an `apply`."""
    return [f for f in findings if f.severity == ERROR]


def subject_of(path: Path) -> str:
    """A key path in words: ("guest", "gauge", "door", "ssh") is "guest gauge: door ssh"."""
    named = [str(p) for p in path if not isinstance(p, int)]
    if not named:
        return "lab"
    if named[0] in ("guest", "network") and len(named) >= 2:
        if len(named) >= 4 and named[2] in ("door", "machine"):
            return f"{named[2]} {named[1]} {named[3]}"
        return f"{named[0]} {named[1]}"
    return named[0]
