"""A guest's clock, set after it stood still: by its agent, else by a login and the guest's own hardware clock."""

from __future__ import annotations

import time

from dacha.core.errors import AnswerNo, DachaError
from dacha.core.named import NamedTuple
from dacha.core.units import show_duration
from dacha.engine.inside.run import SHELL, by_login
from dacha.engine.workspace import Workspace
from dacha.hypervisor.monitor import agent

# How long the agent may take (seconds). A guest that was on before answers at once, unless it is slow.
AGENT_S = 5.0
# A clock is right if it differs by less than this (seconds), and what an answer took; after a login, whose own time is
# not known, by less than that.
NEAR_S, NEAR_BY_LOGIN_S = 0.8, 3.0
# On a busy machine an agent may carry out what it was asked a second later: the clock is set again until it is known to
# be right within `RIGHT_S` seconds, at most so many times.
RIGHT_S, TRIES = 1.0, 4
_NS = 1_000_000_000
# The hardware clock follows this host's clock, however long the login took; a guest without one is told the time.
# Prints the clock before and after.
_SCRIPT = """\
now={now}
rtc=$(cat /sys/class/rtc/rtc0/since_epoch 2> /dev/null)
[ "{utc}" = 1 ] && [ -n "$rtc" ] && now=$rtc
before=$(date -u +%s)
date -u -s "@$now" > /dev/null 2>&1
echo "clock $before $(date -u +%s) $now"
"""


class Clock(NamedTuple):
    """How a clock was set ("its guest agent", "a login"; "" if it was right), and how far it was behind before
    (seconds)."""

    by: str
    behind_s: float

    def words(self) -> str:
        """What was done, for a person."""
        if not self.by:
            return "its clock is right"
        way = "behind" if self.behind_s > 0 else "ahead"
        return f"its clock was {show_duration(abs(self.behind_s))} {way}: set by {self.by}"


def set_clock(ws: Workspace, name: str, login_s: float) -> Clock:
    """Set the clock of a running guest to this host's, by a login within `login_s` seconds if it has no agent. Raises
    AnswerNo if it cannot be set."""
    run = ws.home.run(name)
    if agent.runs(run) is not False and (found := _by_agent(ws, name)):
        return found
    now, utc = time.time(), ws.lab.guests[name].clock == "utc"
    script = _SCRIPT.format(now=round(now), utc=int(utc))
    try:
        ran, said = by_login(ws, name, [SHELL], script, login_s)
        why = "" if ran else said
        words = next((line.split() for line in said.splitlines() if line.startswith("clock ")), []) if ran else []
        if len(words) == 4 and all(w.isdigit() for w in words[1:]):
            before, after, wanted = (int(w) for w in words[1:])
            if abs(after - wanted) < NEAR_BY_LOGIN_S:
                behind = float(wanted - before)
                return Clock("a login" if abs(behind) >= NEAR_BY_LOGIN_S else "", behind)
            why = f"the login may not set it, and it is {show_duration(abs(wanted - before))} behind"
    except DachaError as e:
        why = e.what
    raise AnswerNo(
        f"the clock of {name} was not set: it stood still while the guest did",
        why=f"no guest agent sets it, nor a login: {why or 'no answer'}",
        remedy=f"set it as root in the guest: date -u -s @{round(time.time())}; or install a time service there",
    )


def _by_agent(ws: Workspace, name: str) -> Clock | None:
    """The clock set by the agent; None if the agent does not set it. The hardware clock does not matter."""
    run = ws.home.run(name)
    before = _behind(ws, name)
    if before is None:
        return None
    if abs(before[0]) < NEAR_S + before[1]:
        return Clock("", before[0])
    after = before
    for _ in range(TRIES):
        # It sets what it reads, which is about half an answer later.
        agent.ask(run, "guest-set-time", AGENT_S, {"time": int((time.time() + min(after[1] / 2, 1.0)) * _NS)})
        if (told := _behind(ws, name)) is None:
            return None
        after = told
        if abs(after[0]) + after[1] / 2 < RIGHT_S:
            break
    return Clock("its guest agent", before[0]) if abs(after[0]) < NEAR_S + after[1] else None


def _behind(ws: Workspace, name: str) -> tuple[float, float] | None:
    """How far the guest's clock is behind this host's, as its agent tells it, and how long the answer took (seconds):
    the clock was read at some moment in between. None if it does not tell."""
    asked = time.time()
    told = agent.ask(ws.home.run(name), "guest-get-time", AGENT_S)
    took = time.time() - asked
    if not isinstance(told, int) or isinstance(told, bool):
        return None
    return asked + took / 2 - told / _NS, took
