"""Questions that are asked side by side: a fault in one of them leaves the others their answers."""

from __future__ import annotations

from dacha.core.errors import HostError
from dacha.engine.trace.asking import Asking


def test_a_question_that_fails_has_its_reason_and_the_others_their_answers() -> None:
    def refused() -> None:
        raise HostError("no route", why="the link is down")

    def faulty() -> None:
        raise KeyError("port")

    asking = Asking()
    asking.ask({"one": lambda: 1, "two": refused, "three": faulty})
    asking.wait(10.0)
    assert asking.told() == {"one": 1, "two": None, "three": None}
    reasons = asking.unanswered()
    assert "no route" in reasons["two"] and reasons["three"].startswith("internal error, please report it: KeyError")
