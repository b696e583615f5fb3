"""Repeated work of the caretaker: a failure is logged, and does not end the caretaker."""

from __future__ import annotations

import traceback
from collections.abc import Callable, Iterator
from contextlib import contextmanager

from dacha.core.errors import DachaError


class Attempt:
    """One attempt: whether it failed."""

    failed = False


@contextmanager
def attempt(log: Callable[[str], None], trouble: str) -> Iterator[Attempt]:
    """Log any exception inside as a line that begins with `trouble`, and mark the attempt as `failed`: a loop must not
    end silently. CancelledError is passed on."""
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
