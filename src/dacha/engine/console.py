"""The output of a guest's serial console since its last start, from its record."""

from __future__ import annotations

import os
import re

from dacha.core.apply.first_boot_state import FirstBootState, first_boot_state
from dacha.core.harmless import harmless
from dacha.core.trace.causes.stopped_boot import stopped_boot
from dacha.engine.home import Home

# The offset in its console record where a guest's last start begins.
CONSOLE_START = "console.start"
# The part that is read (bytes): more than a screenful.
_TAIL = 8192
# A first boot takes long, and its messages may be anywhere in between.
_WHOLE = 1 << 20
_ESCAPES = re.compile(rb"\x1b\[[0-9;?]*[A-Za-z]|\x1b[()][A-Z0-9]|\x1b[=>]")
_PANIC = re.compile(rb"Kernel panic[^\r\n]*?(?= *\]---|[\r\n]|\Z)")
# The last message of a kernel that panics and does not restart.
_FOR_GOOD = re.compile(rb"---\[ end Kernel panic[^\r\n]*\s*\Z")
# A kernel's time stamp and a service manager's mark, which are not part of the message.
_MARKS = re.compile(r"^(\[ *[\d.]+\] *|\[ *(OK|FAILED|\*+) *\] *)+")


def recent(home: Home, guest: str, most: int = _TAIL) -> bytes:
    """The last output on the serial console since this start, at most that many bytes, without escape sequences. Raises
    OSError."""
    folder = home.guest(guest)
    try:
        begin = int((folder / CONSOLE_START).read_text())
    except (OSError, ValueError):
        begin = 0
    with (folder / "console.log").open("rb") as f:
        size = f.seek(0, os.SEEK_END)
        # A long record was shortened since: all that is left is from this start.
        f.seek(max(begin if begin <= size else 0, size - most))
        return _ESCAPES.sub(b"", f.read())


def panic_in(console: bytes) -> str | None:
    """The message of a kernel panic in console output."""
    found = _PANIC.findall(console)
    return found[-1].decode("ascii", "replace")[:80] if found else None


def gave_up(home: Home, guest: str) -> str | None:
    """The message of its kernel's final panic, or of a repeated one after a restart; None if it did not panic."""
    try:
        shown = recent(home, guest)
    except OSError:
        return None
    # It panicked again after its restart: it will do so each time.
    again = len(_PANIC.findall(shown)) > 1
    return panic_in(shown) if again or _FOR_GOOD.search(shown) else None


def boot_failed(home: Home, guest: str) -> str:
    """What a guest's console shows if its boot has failed and waits for a person; "" if it does not show that."""
    try:
        found = stopped_boot(recent(home, guest).decode("utf-8", "replace"), guest)
    except OSError:
        return ""
    return f"{found.means}: {found.seen}" if found and not found.waits else ""


def last_words(home: Home, guest: str, most: int = 60) -> str:
    """The last meaningful line on a guest's console, shortened to that many characters; "" if nothing was printed."""
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
    """The progress of the guest's first boot, as far as its console shows it."""
    try:
        return first_boot_state(recent(home, guest, _WHOLE).decode("utf-8", "replace"))
    except OSError:
        return FirstBootState("unknown")
