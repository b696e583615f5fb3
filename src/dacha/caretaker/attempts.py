"""What the caretaker does again and again: that it fails once is said, and no reason to end."""

from __future__ import annotations

import traceback
from collections.abc import Callable, Iterator
from contextlib import contextmanager

from dacha.core.errors import DachaError


class Attempt:
    """One try: whether it failed."""

    failed = False


@contextmanager
def attempt(log: Callable[[str], None], trouble: str) -> Iterator[Attempt]:
    """Whatever goes wrong inside is a line in the log, `trouble` in words before it, and the try has `failed`: a loop
    that ended without a word would leave what it keeps to itself. Who is told to stop (CancelledError) stops."""
    this = Attempt()
    try:
        yield this
    except DachaError as e:
        this.failed = True
        log(f"{trouble}: " + " / ".join(e.lines()))
    except Exception as e:
        this.failed = True
        last = traceback.extract_tb(e.__traceback__)[-1]
        log(f"{trouble}: {type(e).__name__}: {e} (line {last.lineno} of {last.filename})")
