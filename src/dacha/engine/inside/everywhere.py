"""Run one command in every guest that is on, several at a time."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Collection, Sequence

from dacha.core.errors import DachaError
from dacha.core.harmless import harmless_lines
from dacha.core.named import NamedTuple
from dacha.engine.inside.by_agent import run_by_agent
from dacha.engine.inside.run import NO_LOGIN
from dacha.engine.inside.ssh import ssh_command
from dacha.engine.inside.through import has_ssh_door, through_command
from dacha.engine.side_by_side import side_by_side
from dacha.engine.workspace import Workspace
from dacha.host.bounded import run_bounded

# A command may take long, such as an upgrade; its output is bounded.
LONGEST_S, MOST = 24 * 3600.0, 1 << 20
# How long an interrupted run waits until its clients have ended.
ENDING_S = 3.0


class Answer(NamedTuple):
    """The result in one guest: `by` is "ssh" or "agent", or "" if it was not run, with the reason in `why`; `code` is
    its exit code; `out` is its output and error output as they came; `took_s` is in seconds."""

    guest: str
    by: str = ""
    code: int | None = None
    out: str = ""
    why: str = ""
    took_s: float = 0.0


def run_everywhere(
    ws: Workspace,
    command: Sequence[str],
    *,
    user: str | None,
    by: str | None,
    at_once: int,
    told: Callable[[Answer], None],
    names: Collection[str] | None = None,
) -> list[Answer]:
    """Run `command` in all guests that are on (or in those of `names`), at most `at_once` at the same time; `told` gets
    each result when it is known. `by` limits the way to "ssh" or "agent". The results are in the order of the lab file.
    An interrupt ends the clients that still run; the commands in the guests end with them, if their systems do that."""
    chosen = [name for name in ws.lab.guests if (names is None or name in names) and ws.home.is_running(name)]
    stopped, speaking = threading.Event(), threading.Lock()
    left = set(chosen)

    def one(name: str) -> Answer:
        began = time.monotonic()
        try:
            answer = _in(ws, name, command, user, by, stopped)
        except DachaError as e:
            answer = Answer(name, why=e.what)
        except BaseException:
            stopped.set()
            raise
        finally:
            left.discard(name)
        answer = answer._replace(took_s=time.monotonic() - began)
        with speaking:
            if not stopped.is_set():
                told(answer)
        return answer

    try:
        return side_by_side(one, chosen, at_once)
    finally:
        stopped.set()
        deadline = time.monotonic() + ENDING_S
        while left and time.monotonic() < deadline:
            time.sleep(0.05)


def _in(
    ws: Workspace, name: str, command: Sequence[str], user: str | None, by: str | None, stopped: threading.Event
) -> Answer:
    """The result in one guest. By SSH, if it has a door or another guest leads to it; else by its agent."""
    if by != "agent":
        try:
            argv = _client(ws, name, command, user)
        except DachaError:
            if by == "ssh" or user:
                raise
        else:
            done = run_bounded([argv[0], "-o", "BatchMode=yes", *argv[1:]], LONGEST_S, most=MOST, stopped=stopped)
            if done.code is None:
                why = f"its output exceeds {MOST >> 20} MiB" if len(done.text) >= MOST else "it was interrupted"
                return Answer(name, "ssh", out=done.text, why=why)
            if done.code == NO_LOGIN:
                last = (harmless_lines(done.text.replace("\r", "")).strip().splitlines() or ["no output"])[-1]
                return Answer(name, "ssh", done.code, done.text, f"from the command, or ssh could not log in: {last}")
            return Answer(name, "ssh", done.code, done.text)
    ran = run_by_agent(ws, name, command)
    text = (ran.out + ran.err).decode("utf-8", "replace")
    return Answer(name, "agent", ran.code, text, "" if ran.code is not None else "a signal ended it")


def _client(ws: Workspace, name: str, command: Sequence[str], user: str | None) -> list[str]:
    if has_ssh_door(ws.lab.guests[name]):
        return ssh_command(ws, name, command, user=user, terminal=False)
    return through_command(ws, name, command, by=None, user=user, terminal=False).argv
