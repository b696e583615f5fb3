"""A guest's own answers, in pieces: by its agent, else by a login. Each piece is used as it arrives."""

from __future__ import annotations

import re
import time
from collections.abc import Callable, Iterable
from pathlib import Path
from typing import Any

from dacha.core.errors import DachaError
from dacha.core.lab.model import Guest
from dacha.core.trace.seen.evidence import Evidence
from dacha.core.trace.seen.inside import Inside, read_inside
from dacha.core.trace.seen.questions import NO_REPLIES, Replies, together
from dacha.engine.inside.run import SHELL, by_login
from dacha.engine.trace.patience import MOST_S
from dacha.engine.workspace import Workspace
from dacha.host.network.addresses import lan_address
from dacha.hypervisor.monitor import agent

# User names that are safe in a script.
_PLAIN = re.compile(r"[a-z_][a-z0-9_.-]{0,31}")
# How long an agent may take to respond if QEMU cannot tell whether one runs, and what counts as a slow answer
# (seconds): from a slow agent, all remaining pieces are requested together after the first two.
THERE_S, SLOW_S = 3.0, 1.0
# The guest may begin to work on a question this much later (seconds).
LATE_S = 2


def replies_of(e: Evidence) -> Replies:
    """The replies that a trace asks about: to this host, by its address on the guest's network and on its LAN."""
    lan = lan_address()
    clients = (e.net.gateway, str(lan) if lan else "", e.sources.asker or "")
    return Replies(e.net.address or e.net.planned, tuple(dict.fromkeys(c for c in clients if c and ":" not in c)))


class Inquiry:
    """The answers of one guest: `inside` grows piece by piece while `run` queries it; `mute` is why an answer is
    missing."""

    def __init__(
        self, ws: Workspace, guest: Guest, service: str, who: str | None = None, replies: Replies = NO_REPLIES
    ) -> None:
        self._ws, self._guest, self._service = ws, guest, service
        named = who or (guest.login.user if guest.login else "root")
        self._user = named if _PLAIN.fullmatch(named) else "root"
        self._replies = replies
        self._since = time.monotonic()
        self.inside: Inside | None = None
        self.mute = ""
        self.by_agent: bool | None = None
        self._no_agent = ""
        # How long the agent took for an answer, and the guest for a piece (seconds); `waits` while a running agent has
        # not answered at all, `works` while the guest works on a piece.
        self.answer_s = 0.0
        self.piece_s = 0.0
        self.waits = False
        self.works = False

    def run(
        self, pieces: Iterable[str], until: Callable[[], float], *, login: bool, enough: Callable[[Inside], bool]
    ) -> None:
        """Ask for these pieces in order, until a moment of the monotonic clock (a slow agent moves it), or until the
        answers are `enough`; by a login only if one may work."""
        self.by_agent = self._agent_there(until())
        if not self.by_agent and not login:
            self.mute = self._no_agent
            return
        left, asked = list(pieces), 0
        while left:
            limit_s = until() - time.monotonic()
            if limit_s <= 0:
                self.mute = self.mute or "there was no time for more questions"
                return
            # If each answer takes seconds, the questions do not: after the most telling ones, the rest is requested
            # together.
            now = left if self.answer_s > SLOW_S and asked > 1 else left[:1]
            asked += 1
            left = left[len(now) :]
            # What its log says of this trace: a login began after it did. The guest may start on it late.
            since_s = round(time.monotonic() - self._since) + LATE_S
            text = together(now, self._user, self._service, since_s, self._replies)
            began = time.monotonic()
            # The caller decides how long a piece is waited for: `until` moves while the guest works on it.
            said = self.ask(text, max(limit_s, MOST_S) if self.by_agent else limit_s)
            self.piece_s = max(self.piece_s, time.monotonic() - began)
            if said is None and login and self.by_agent is False:
                said = self.ask(text, max(0.0, until() - time.monotonic()))  # an agent that runs no commands
            if said is None:
                return
            self.mute = ""
            self.inside = read_inside(said, self.inside)
            if self.inside is not None and enough(self.inside):
                return

    def _agent_there(self, until: float) -> bool:
        """Whether the agent responds. A running one is waited for; that none runs is known at once."""
        runs, began = agent.runs(self._run), time.monotonic()
        if runs:
            self.waits = not self.answer_s
            return True
        self._no_agent = "it has no running guest agent"
        if runs is False:
            return False
        there = agent.ask(self._run, "guest-ping", min(THERE_S, max(0.1, until - began))) is not None
        self._no_agent = "its guest agent does not respond"
        return there

    @property
    def slowest_s(self) -> float:
        """The longest time that this guest took for anything (seconds)."""
        return max(self.answer_s, self.piece_s)

    def ask(self, text: str, limit_s: float) -> str | None:
        """The output of a script in the guest, by the way that `run` chose; None without one in that time."""
        return self._by_agent(text, limit_s) if self.by_agent else self._by_login(text, limit_s)

    def _by_agent(self, text: str, limit_s: float) -> str | None:
        began = time.monotonic()

        def begun() -> None:
            self.works = True
            self._answered(time.monotonic() - began)

        ran = agent.run_program(self._run, ("/bin/sh", "-c", text), limit_s, poll_s=0.05, begun=begun)
        self.works = False
        if ran is None:
            took = time.monotonic() - began
            self.mute = (
                f"its guest agent did not answer within {took:.0f} s"
                if took >= limit_s - 0.5
                else "its guest agent runs no commands (guest-exec is not allowed there)"
            )
            self.by_agent = took >= limit_s - 0.5
            return None
        return ran.out.decode("utf-8", "replace")

    def timed(self, question: Callable[[], Any]) -> Any:
        """The agent's answer to a question; the time shows how slow it is."""
        began = time.monotonic()
        told = question()
        if told is not None:
            self._answered(time.monotonic() - began)
        return told

    def _answered(self, after_s: float) -> None:
        self.answer_s = max(self.answer_s, after_s)

    def _by_login(self, text: str, limit_s: float) -> str | None:
        try:
            ran, said = by_login(self._ws, self._guest.name, [SHELL], text, limit_s)
        except DachaError as e:
            ran, said = False, e.what
        if not ran:
            self.mute = f"{self._no_agent or self.mute}, and by a login: {said}"
            return None
        return said

    @property
    def _run(self) -> Path:
        return self._ws.home.run(self._guest.name)
