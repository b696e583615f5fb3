"""Progress for people, not for scripts: one line on a terminal's standard error."""

from __future__ import annotations

import contextlib
import sys
import threading
import time
from collections.abc import Callable, Iterator
from typing import Any, TypeVar

from dacha.cli.terminal.streams import put
from dacha.core.units import show_duration

R = TypeVar("R")
# Without a terminal, a wait is mentioned at this interval (seconds), the first time after the shorter one.
FIRST_S, EVERY_S = 15.0, 30.0


class Line:
    """A line that tells what is being waited for, with the elapsed time: live on a terminal; else an occasional line,
    or (`quiet`) none."""

    def __init__(self, progress: Any = None, *, quiet: bool = False) -> None:
        self._progress = progress
        self._task = progress.add_task("", total=None) if progress else None
        self._began = time.monotonic()
        self._next = float("inf") if quiet else self._began + (0.0 if progress else FIRST_S)

    def due(self) -> bool:
        """True if it is time for another message."""
        return time.monotonic() >= self._next

    def remind(self, text: str) -> None:
        """Show the text if it is time for another message."""
        if self.due():
            self.show(text)

    def show(self, text: str) -> None:
        now = time.monotonic()
        if self._progress:
            self._next = now + 0.5
            self._progress.update(self._task, description=text)
        else:
            self._next = now + EVERY_S
            put(f"{text} ({show_duration(now - self._began)} so far)", sys.stderr, flush=True)

    @contextlib.contextmanager
    def aside(self) -> Iterator[None]:
        """Remove the live line while something is printed."""
        if self._progress:
            self._progress.stop()
        yield
        if self._progress:
            self._progress.start()


def meanwhile(work: Callable[[], R], tick: Callable[[], object]) -> R:
    """The result of `work`, or its exception; `tick` is called again and again until it ends. An interrupt does not
    wait for it."""
    found: list[R] = []
    raised: list[BaseException] = []

    def run() -> None:
        try:
            found.append(work())
        except BaseException as e:
            raised.append(e)

    thread = threading.Thread(target=run, daemon=True)
    thread.start()
    while thread.is_alive():
        thread.join(0.1)
        tick()
    if raised:
        raise raised[0]
    return found[0]


def _live(*columns: str, text: str) -> Any:
    """A display on standard error with these columns of rich and a text. Only the live line is on standard error, the
    answer stays on standard output."""
    from rich import progress
    from rich.console import Console

    made = [getattr(progress, c)() for c in columns]
    return progress.Progress(
        *made[:1],
        progress.TextColumn(text),
        *made[1:],
        console=Console(stderr=True),
        transient=True,
        redirect_stdout=False,
        redirect_stderr=False,
    )


@contextlib.contextmanager
def waiting_line(*, quiet: bool = False) -> Iterator[Line]:
    """A live line on a terminal, which is restored also when interrupted; else an occasional line."""
    if quiet or not sys.stderr.isatty():
        yield Line(quiet=quiet)
        return
    with _live("SpinnerColumn", "TimeElapsedColumn", text="{task.description}") as progress:
        yield Line(progress)


@contextlib.contextmanager
def byte_bar(text: str) -> Iterator[Any]:
    """A bar of bytes; call the yielded function with (bytes done, bytes in all or None)."""
    if not sys.stderr.isatty():
        yield lambda done, total: None
        return
    with _live("BarColumn", "DownloadColumn", "TransferSpeedColumn", "TimeRemainingColumn", text=text) as progress:
        task = progress.add_task("", total=None)
        yield lambda done, total: progress.update(task, completed=done, total=total)


@contextlib.contextmanager
def share_bar() -> Iterator[Any]:
    """A bar that appears with the first call of the yielded function (description, share from 0 to 1)."""
    if not sys.stderr.isatty():
        yield lambda what, share: None
        return
    shown: dict[str, Any] = {}
    with contextlib.ExitStack() as stack:

        def update(what: str, share: float) -> None:
            if not shown:
                shown["live"] = stack.enter_context(
                    _live("BarColumn", "TaskProgressColumn", "TimeRemainingColumn", text="{task.description}")
                )
            live = shown["live"]
            if what not in shown:
                shown[what] = live.add_task(what, total=1.0)
            live.update(shown[what], completed=share, visible=share < 1)

        yield update


@contextlib.contextmanager
def bar(text: str, total: int) -> Iterator[Any]:
    """A bar of `total` steps; call the yielded function with each step's name."""
    if not sys.stderr.isatty():
        yield lambda name: None
        return
    with _live("BarColumn", "TimeElapsedColumn", text=text + ": {task.description}") as progress:
        task = progress.add_task("", total=total)
        yield lambda name: progress.update(task, description=name, advance=1)
