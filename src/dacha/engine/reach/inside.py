"""A script run in a guest that is on: by its agent, else by a login through its SSH door."""

from __future__ import annotations

import time
from typing import NamedTuple

from dacha.core.errors import AnswerNo, DachaError
from dacha.core.guest_settings import QUESTIONS, Setting, judge, read_answers
from dacha.core.harmless import harmless_lines
from dacha.engine.lab.named import guest_named
from dacha.engine.reach.ssh import refuse_unless_on, ssh_command
from dacha.engine.workspace import Workspace
from dacha.host.bounded import run_bounded
from dacha.hypervisor.monitor import agent

# A slow guest takes its time, for the agent's script and for a login.
AGENT_S, LOGIN_S = 20.0, 60.0


class Checked(NamedTuple):
    """A guest's settings, and how they were asked."""

    how: str
    settings: list[Setting]


def check_guest(ws: Workspace, name: str) -> Checked:
    """Ask a running guest for its settings, and judge them. Raises UsageError, AnswerNo where it cannot be asked."""
    guest = guest_named(ws, name)
    refuse_unless_on(ws, name)
    if guest.system == "windows":
        raise AnswerNo(f"{name} runs Windows, whose settings Dacha does not know to ask")
    how, said = _ask(ws, name, QUESTIONS)
    told = read_answers(said)
    if told is None:
        raise AnswerNo(f"{name} did not answer to the end", remedy=f"dacha console {name} shows what it does")
    ports = frozenset(p for d in guest.doors for p in range(d.to.first, d.to.last + 1))
    setup = guest.setup
    return Checked(
        how, judge(told, now=time.time(), zone=setup.time_zone, updates=setup.automatic_updates, ports=ports)
    )


def _ask(ws: Workspace, name: str, script: str) -> tuple[str, str]:
    """How a script was run in the guest, and what it printed."""
    said = (
        agent.run_script(ws.home.run(name), script, AGENT_S)
        if agent.ask(ws.home.run(name), "guest-ping", 2.0) is not None
        else None
    )
    if said is not None:
        return "by its guest agent", said
    why = ""
    try:
        # As an administrator where that is possible, else as who logs in: what is not told then is not known.
        argv = ssh_command(ws, name, ["sudo -n sh 2>/dev/null || sh"], user=None, terminal=False)
    except DachaError as e:
        why = e.what
    else:
        done = run_bounded([*argv[:1], "-o", "BatchMode=yes", *argv[1:]], LOGIN_S, given=script)
        if done.code not in (None, 255):
            return "by a login", done.text
        last = harmless_lines(done.text).strip().splitlines()
        why = (last or ["it is refused"])[-1] if done.code == 255 else f"no end of it within {LOGIN_S:.0f} s"
    raise AnswerNo(
        f"{name} cannot be asked",
        why=f"no guest agent answers, and by a login: {why}",
        remedy=f"dacha trace {name} says why",
    )
