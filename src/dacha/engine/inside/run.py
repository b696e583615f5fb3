"""Run a script in a running guest: by its agent, else by a login through its SSH door."""

from __future__ import annotations

from collections.abc import Sequence

from dacha.core.errors import AnswerNo, DachaError
from dacha.core.harmless import harmless_lines
from dacha.engine.inside.ssh import ssh_command
from dacha.engine.inside.through import has_ssh_door, through_command
from dacha.engine.workspace import Workspace
from dacha.host.bounded import run_bounded
from dacha.hypervisor.monitor import agent

# A slow guest needs time, for the agent's script and for a login.
AGENT_S, LOGIN_S = 30.0, 150.0
# As an administrator if possible, else as the login user; the script is on its standard input.
SHELL = "sudo -n sh 2>/dev/null || sh"
# The exit code of ssh(1) for its own failures.
NO_LOGIN = 255


def by_login(
    ws: Workspace, name: str, command: Sequence[str], given: str, limit_s: float = LOGIN_S
) -> tuple[bool, str]:
    """Whether a command was run by a login within `limit_s` seconds, and what it printed; or why not, in a line. The
    way is the guest's SSH door, or if it has none, SSH through another guest of its network. Raises DachaError if
    neither exists."""
    if has_ssh_door(ws.lab.guests[name]):
        argv = ssh_command(ws, name, command, user=None, terminal=False)
    else:
        argv = through_command(ws, name, command, by=None, user=None, terminal=False).argv
    done = run_bounded([*argv[:1], "-o", "BatchMode=yes", *argv[1:]], limit_s, given=given)
    if done.code is None:
        return False, f"no result within {limit_s:.0f} s"
    if done.code == NO_LOGIN:
        return False, (harmless_lines(done.text.replace("\r", "")).strip().splitlines() or ["login refused"])[-1]
    return True, done.text


def run_inside(ws: Workspace, name: str, script: str, limit_s: float | None = None) -> tuple[str, str]:
    """How a POSIX shell script was run in the guest, and its output. As root by the agent; by a login as an
    administrator if possible, else as the login user; within `limit_s` seconds, by default as a short script needs.
    Raises AnswerNo if neither is possible."""
    run = ws.home.run(name)
    if agent.answers(run, AGENT_S):
        # On its standard input: it is not visible in the guest's process list.
        done = agent.run_program(run, ("/bin/sh",), limit_s or AGENT_S, given=script.encode())
        if done is not None:
            return "by its guest agent", done.out.decode("utf-8", "replace")
    try:
        ran, why = by_login(ws, name, [SHELL], script, limit_s or LOGIN_S)
        if ran:
            return "by a login", why
    except DachaError as e:
        why = e.what
    raise AnswerNo(
        f"{name} cannot be queried",
        why=f"neither by its guest agent nor by a login: {why}",
        remedy=f"dacha trace {name} says why",
    )
