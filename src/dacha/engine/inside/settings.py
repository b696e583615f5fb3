"""Query a running guest's settings, and judge them."""

from __future__ import annotations

import time

from dacha.core.errors import AnswerNo
from dacha.core.guest_settings import Setting, judge, read_answers
from dacha.core.named import NamedTuple
from dacha.core.people.strange_keys import keys_setting, questions
from dacha.engine.guest.keys import accounts_of
from dacha.engine.inside.run import run_inside
from dacha.engine.inside.ssh import refuse_unless_on
from dacha.engine.lab.named import guest_named
from dacha.engine.workspace import Workspace


class Checked(NamedTuple):
    """A guest's settings, and how they were queried."""

    how: str
    settings: list[Setting]


def check_guest(ws: Workspace, name: str) -> Checked:
    """Query a running guest for its settings, and judge them. Raises UsageError, AnswerNo if that is not possible."""
    guest = guest_named(ws, name)
    refuse_unless_on(ws, name)
    if guest.system == "windows":
        raise AnswerNo(f"{name} runs Windows, and Dacha cannot query its settings")
    known = accounts_of(ws, guest)
    how, said = run_inside(ws, name, questions(known))
    told = read_answers(said)
    if told is None:
        raise AnswerNo(f"{name} did not finish answering", remedy=f"dacha console {name} shows its output")
    ports = frozenset(p for d in guest.doors for p in range(d.to.first, d.to.last + 1))
    setup = guest.setup
    found = judge(told, now=time.time(), zone=setup.time_zone, updates=setup.automatic_updates, ports=ports)
    return Checked(how, [*keys_setting(known, said), *found])
