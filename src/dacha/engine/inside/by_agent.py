"""Run a command in a guest by its agent: through the hypervisor, without any network."""

from __future__ import annotations

from collections.abc import Sequence

from dacha.core.errors import AnswerNo, UsageError
from dacha.engine.inside.ssh import refuse_unless_on
from dacha.engine.lab.named import guest_named
from dacha.engine.workspace import Workspace
from dacha.hypervisor.monitor import agent
from dacha.hypervisor.monitor.agent import Ran

# How long the agent may take to respond: a slow guest needs seconds. What it runs has no limit.
THERE_S, LONGEST_S = 20.0, 24 * 3600.0
SHELLS = {"windows": ("cmd.exe", "/c")}


def agent_answers(ws: Workspace, name: str) -> bool | None:
    """Whether a guest's agent responds; None for a guest that is not on."""
    try:
        refuse_unless_on(ws, name)
    except AnswerNo:
        return None
    return agent.answers(ws.home.run(name), THERE_S)


def run_by_agent(ws: Workspace, name: str, command: Sequence[str]) -> Ran:
    """Run a command by the guest's agent, as the agent's user (usually root); its words go to the guest's shell, like
    with SSH. Raises UsageError without a command, AnswerNo if no agent responds, or it runs nothing."""
    guest = guest_named(ws, name)
    if not command:
        raise UsageError(
            "a guest agent runs commands, but has no interactive shell",
            remedy=f"dacha connect {name} --by agent -- COMMAND, or type: dacha connect {name} --by console",
        )
    refuse_unless_on(ws, name)
    run = ws.home.run(name)
    if not agent.answers(run, THERE_S):
        raise AnswerNo(
            f"no guest agent answers in {name}",
            why="none is installed, or it has not started yet",
            remedy=f"dacha connect {name} --by console",
        )
    done = agent.run_program(run, (*SHELLS.get(guest.system, ("/bin/sh", "-c")), " ".join(command)), LONGEST_S)
    if done is None:
        raise AnswerNo(
            f"the guest agent of {name} did not complete the command",
            why="its settings may forbid commands (guest-exec), or it was stopped",
            remedy=f"dacha connect {name} --by console",
        )
    return done
