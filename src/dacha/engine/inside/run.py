"""A script run in a guest that is on: by its agent, else by a login through its SSH door."""

from __future__ import annotations

from dacha.core.errors import AnswerNo, DachaError
from dacha.core.harmless import harmless_lines
from dacha.engine.inside.ssh import ssh_command
from dacha.engine.workspace import Workspace
from dacha.host.bounded import run_bounded
from dacha.hypervisor.monitor import agent

# A slow guest takes its time, for the agent's script and for a login.
AGENT_S, LOGIN_S = 20.0, 150.0


def run_inside(ws: Workspace, name: str, script: str) -> tuple[str, str]:
    """How a script for a POSIX shell was run in the guest, and what it printed. As root by the agent; by a login as an
    administrator where that is possible, else as who logs in. Raises AnswerNo where neither way is open."""
    run = ws.home.run(name)
    if agent.ask(run, "guest-ping", 2.0) is not None:
        said = agent.run_script(run, script, AGENT_S)
        if said is not None:
            return "by its guest agent", said
    why = ""
    try:
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
