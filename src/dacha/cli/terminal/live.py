"""A view that is redrawn in place, on the alternate screen: the terminal's former contents come back after it."""

from __future__ import annotations

import contextlib
import io
import os
import select
import signal
import sys
import termios
import time
import tty
from collections.abc import Callable, Iterator

from dacha.core.errors import UsageError

# XTerm control sequences: the alternate screen, the cursor hidden and shown, home, the rest of a line or screen erased.
_ENTER, _LEAVE, _HOME, _LINE, _REST = "\x1b[?1049h\x1b[?25l", "\x1b[?25h\x1b[?1049l", "\x1b[H", "\x1b[K", "\x1b[J"


class _Page(io.StringIO):
    """Collects what is printed, with the colours of the terminal itself."""

    def isatty(self) -> bool:
        return True


def watch(draw: Callable[[], None], every_s: float) -> None:
    """Redraw every so many seconds until q or Ctrl-C; the terminal is restored in any case. Raises UsageError without
    one."""
    if not (sys.stdout.isatty() and sys.stdin.isatty()):
        raise UsageError("--watch needs a terminal", remedy="leave --watch out: the state is then printed once")
    with _own_screen() as ending:
        while not ending:
            began = time.monotonic()
            page = _Page()
            with contextlib.redirect_stdout(page):
                draw()
            _show(page.getvalue())
            if _asked_to_end(max(0.1, began + every_s - time.monotonic())):
                return


def _show(text: str) -> None:
    rows = os.get_terminal_size().lines or 24
    lines = text.splitlines()
    if len(lines) >= rows:
        lines = [*lines[: rows - 2], f"… {len(lines) - rows + 2} more lines: enlarge the terminal to see them"]
    sys.stdout.write(_HOME + "".join(f"{line}{_LINE}\r\n" for line in lines) + _REST)
    sys.stdout.flush()


def _asked_to_end(within_s: float) -> bool:
    """Wait for a key; True if it ends the view."""
    until = time.monotonic() + within_s
    while (left := until - time.monotonic()) > 0:
        if select.select([sys.stdin], [], [], left)[0] and os.read(sys.stdin.fileno(), 16) in (
            b"q",
            b"Q",
            b"\x03",
            b"\x04",
            b"",
        ):
            return True
    return False


@contextlib.contextmanager
def _own_screen() -> Iterator[list[int]]:
    """The alternate screen without echo, restored in any case: after a key, an error, or a signal. Yields the received
    signals: an interruption may be lost inside a callback, like an exception."""
    fd = sys.stdin.fileno()
    before = termios.tcgetattr(fd)
    came: list[int] = []

    def end(number: int, frame: object) -> None:
        came.append(number)
        raise KeyboardInterrupt

    former = {n: signal.signal(n, end) for n in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP)}
    try:
        tty.setcbreak(fd)
        sys.stdout.write(_ENTER)
        sys.stdout.flush()
        with contextlib.suppress(KeyboardInterrupt):
            yield came
    finally:
        with contextlib.suppress(OSError):
            sys.stdout.write(_LEAVE)
            sys.stdout.flush()
            termios.tcsetattr(fd, termios.TCSADRAIN, before)
        for n, handler in former.items():
            signal.signal(n, handler)
