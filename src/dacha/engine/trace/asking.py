"""What a trace is asked, and the questions that it asks at once: each in a thread of its own, none waited for longer
than there is time."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable
from typing import Any

from dacha.core.errors import DachaError
from dacha.core.named import NamedTuple
from dacha.core.plan.doors import DoorPlan


class Asked(NamedTuple):
    """What is to be traced: the planned door, from where, and (for a limited one) for whom; `wait_s` is how long a
    guest may take for an answer that it still owes, None for as long as it seems to need; with `login` the lab file's
    user logs in by SSH; `at` is another machine (USER@HOST) that tries it too; `user` logs in instead, by remote
    desktop with this `password`."""

    plan: DoorPlan
    origin: str
    asker: str | None
    wait_s: float | None = None
    login: bool = True
    at: str | None = None
    user: str | None = None
    password: str | None = None


class Asking:
    """Questions and their answers by name. What does not answer in time is None, and may answer later all the same."""

    def __init__(self) -> None:
        self._told: dict[str, Any] = {}
        self._failed: dict[str, str] = {}
        self._threads: dict[str, threading.Thread] = {}
        self._began = time.monotonic()
        self._heard = threading.Condition()

    def ask(self, questions: dict[str, Callable[[], Any]]) -> None:
        """Begin to ask what was not asked yet. Nobody waits for the threads at the end, so that an interrupted trace
        ends at once."""

        def answer(name: str, question: Callable[[], Any]) -> None:
            try:
                self._told[name] = question()
            except (DachaError, OSError) as e:
                self._failed[name] = str(e)
            with self._heard:
                self._heard.notify_all()

        for name, question in questions.items():
            if name in self._threads:
                continue
            self._threads[name] = threading.Thread(target=answer, args=(name, question), daemon=True)
            self._threads[name].start()

    def until(self, enough: Callable[[], bool], moment: float | Callable[[], float]) -> bool:
        """Wait until the answers are enough, or until a moment of the monotonic clock, which may move while it is
        waited for; True where they are."""
        while not enough():
            left = (moment() if callable(moment) else moment) - time.monotonic()
            if left <= 0:
                return False
            with self._heard:
                # The state of a thread that has just answered is seen a little later than its answer.
                self._heard.wait(min(left, 0.1))
        return True

    def wait(self, limit_s: float) -> None:
        """Wait until all have answered, for `limit_s` seconds at most."""
        self.until(lambda: not any(map(self.waiting, self._threads)), time.monotonic() + limit_s)

    def answered(self, *names: str) -> bool:
        """True when each of these that was asked has an answer, or failed."""
        return not any(n in self._threads and n not in self._told and n not in self._failed for n in names)

    @property
    def names(self) -> tuple[str, ...]:
        return tuple(self._threads)

    def waiting(self, name: str) -> bool:
        """True for a question that may yet be answered."""
        return name in self._threads and name not in self._told and name not in self._failed

    @property
    def took_s(self) -> float:
        """Seconds since the first question."""
        return time.monotonic() - self._began

    def told(self) -> dict[str, Any]:
        """The answers so far; None for what has none."""
        return {name: self._told.get(name) for name in self._threads}

    def unanswered(self) -> dict[str, str]:
        """Why what has no answer has none."""
        late = f"no answer came within {self.took_s:.0f} s"
        return {n: self._failed.get(n, late) for n in self._threads if n not in self._told}
