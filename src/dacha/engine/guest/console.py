"""What a guest's serial console has shown since its last start, from the record that is kept of it."""

from __future__ import annotations

import os
import re

from dacha.core.apply.first_boot_state import FirstBootState, first_boot_state
from dacha.core.harmless import harmless
from dacha.engine.guest.observe import CONSOLE_START
from dacha.engine.home import Home

# As much of the end as is read (bytes): more than a screen full.
_TAIL = 8192
# A first boot ends long after it began, and what it says stands anywhere between.
_WHOLE = 1 << 20
_ESCAPES = re.compile(rb"\x1b\[[0-9;?]*[A-Za-z]|\x1b[()][A-Z0-9]|\x1b[=>]")
_PANIC = re.compile(rb"Kernel panic[^\r\n]*?(?= *\]---|[\r\n]|\Z)")
# The last that a kernel says when it gives up and does not start anew.
_FOR_GOOD = re.compile(rb"---\[ end Kernel panic[^\r\n]*\s*\Z")
# A kernel's time stamp and a service manager's mark: not what a line says.
_MARKS = re.compile(r"^(\[ *[\d.]+\] *|\[ *(OK|FAILED|\*+) *\] *)+")


def recent(home: Home, guest: str, most: int = _TAIL) -> bytes:
    """The end of what this start has put on the serial console, at most so many bytes, without escape sequences.
    Raises OSError."""
    folder = home.guest(guest)
    try:
        begin = int((folder / CONSOLE_START).read_text())
    except (OSError, ValueError):
        begin = 0
    with (folder / "console.log").open("rb") as f:
        size = f.seek(0, os.SEEK_END)
        # A long record was cut to its end since: all that is left of it is this start's.
        f.seek(max(begin if begin <= size else 0, size - most))
        return _ESCAPES.sub(b"", f.read())


def panic_in(console: bytes) -> str | None:
    """What a kernel that gave up said of it, in what a console has shown last."""
    found = _PANIC.findall(console)
    return found[-1].decode("ascii", "replace")[:80] if found else None


def gave_up(home: Home, guest: str) -> str | None:
    """What its kernel said when it gave up for good, or once more after a new start; None while it has not."""
    try:
        shown = recent(home, guest)
    except OSError:
        return None
    # One that starts anew after each has given up as well: it comes to the same again.
    again = len(_PANIC.findall(shown)) > 1
    return panic_in(shown) if again or _FOR_GOOD.search(shown) else None


def last_words(home: Home, guest: str, most: int = 60) -> str:
    """The last line of meaning on a guest's console, at most so many characters; "" where it has shown none."""
    try:
        text = recent(home, guest).decode("utf-8", "replace")
    except OSError:
        return ""
    for line in reversed(re.split(r"[\r\n]+", text)):
        said = _MARKS.sub("", harmless(line)).strip()
        if sum(c.isalnum() for c in said) > 2:
            return said if len(said) <= most else said[: most - 1] + "…"
    return ""


def first_boot(home: Home, guest: str) -> FirstBootState:
    """How far the guest's first boot is, as far as its console tells."""
    try:
        return first_boot_state(recent(home, guest, _WHOLE).decode("utf-8", "replace"))
    except OSError:
        return FirstBootState("unknown")
