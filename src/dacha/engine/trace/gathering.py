"""One trace in progress: what is asked when, how long answers are waited for, and the resulting evidence."""

from __future__ import annotations

import contextlib
import time
from collections.abc import Callable, Sequence
from functools import partial

from dacha.core.apply.observed import HUNG, ObservedGuest
from dacha.core.heard import Heard
from dacha.core.plan.doors import DoorPlan
from dacha.core.trace.causes.port import serves, why_mute
from dacha.core.trace.missing import explained, wanted
from dacha.core.trace.seen.evidence import Evidence
from dacha.core.trace.seen.inside import Inside
from dacha.core.trace.seen.questions import LISTENERS, SERVICES
from dacha.core.trace.seen.results import IN, REFUSED, accepted
from dacha.core.trace.service import SLOW_S, touched, wordless
from dacha.engine.console import recent
from dacha.engine.inside.through import candidates, has_ssh_door
from dacha.engine.network import others
from dacha.engine.network.live import live_plan
from dacha.engine.trace import there
from dacha.engine.trace.asking import Asked, Asking, Told
from dacha.engine.trace.guest import key_matches, with_guest
from dacha.engine.trace.host import with_links
from dacha.engine.trace.inside import Inquiry, replies_of
from dacha.engine.trace.patience import LEAST_S, MOST_S, emulated, patience_s
from dacha.engine.trace.questions import ASK_S, WORDS, first_questions, second_questions
from dacha.engine.workspace import Workspace
from dacha.host.probe import ports

# Called with what is being waited for ("" for nothing slow), the limit (seconds), and the evidence so far.
Tell = Callable[[Evidence, str, float], None]
# How long a service that accepts is listened to before dependent questions; how long the quick questions of a round may
# take; when a slow login is announced (seconds).
HEAR_S, ROUND_S, SOON_S = 2.2, 3.8, 1.0
# Slow questions that nothing else waits for.
LATER = ("agent", "arrived", "answers", "named", "router")
# Hops that depend on a single question.
HOPS_OF = {
    "key": ("key",), "certificate": ("certificate",), "sizes": ("size",), "reply": ("reply",),
    "router": ("router", "outside-address"), "route": ("route",), "login": ("login",),
}  # fmt: skip


class Gathering:
    """One trace in progress: its questions, the time for their answers, and the resulting evidence."""

    def __init__(
        self,
        ws: Workspace,
        door: DoorPlan,
        found: Evidence,
        place: tuple[str, int] | None,
        seen: ObservedGuest,
        asked: Asked,
        tell: Tell,
    ) -> None:
        self.ws, self.door, self.e, self.place, self.seen, self.asked = ws, door, found, place, seen, asked
        self.guest = ws.lab.guests[found.guest]
        self.tell = tell
        self.asking = Asking()
        self.began = self.stage = time.monotonic()
        self.inquiry = Inquiry(ws, self.guest, found.service, asked.user, replies_of(found))
        self.lan: str | None = None
        self.there: Asking | None = None

    def run(self) -> Evidence:
        """Ask everything. If it is interrupted (Ctrl-C), the answers so far are the evidence."""
        try:
            self.tell(self.e, "", 0.0)
            self._first()
            self.tell(self.e, "", 0.0)
            self._words()
            self._next_stage()
            self._second()
            self._next_stage()
            self._inside()
            self._second_look()
        except KeyboardInterrupt:
            e = self._assembled()
            return e._replace(gathered=e.gathered._replace(interrupted=True))
        return there.end(self.there, self.asked.at, self._assembled(), self.until)

    @property
    def until(self) -> float:
        """Until when a pending answer is waited for (monotonic clock)."""
        if self.seen.state == HUNG and self.asked.wait_s is None:
            return self.began + LEAST_S  # its process does not respond
        inquiry, wait_s = self.inquiry, self.asked.wait_s
        return self.stage + patience_s(
            self.ws, self.guest.name, wait_s, self._slowest_s(), agent_runs=inquiry.waits, works=inquiry.works
        )

    def _slowest_s(self) -> float:
        """The longest time that an answer of this guest took so far (seconds)."""
        seen = (t.after_s for t in (self.e.tried.direct, self.e.tried.through) if t is not None and t.ok)
        return max(self.inquiry.slowest_s, *seen, 0.0)

    def _next_stage(self) -> None:
        """Give a slow guest its time again for the next questions: it has shown that it answers, only late."""
        if self._slowest_s() > SLOW_S and self.asked.wait_s is None:
            self.stage = time.monotonic()

    def _first(self) -> None:
        """Questions that need no earlier answer."""
        ws, asking = self.ws, self.asking
        first = first_questions(ws, self.door, self.e, self.place, MOST_S, asking)
        asking.ask(first | {"agent": partial(self.inquiry.timed, first["agent"])})
        quick = tuple(n for n in asking.names if n not in (*WORDS, *LATER))
        asking.until(lambda: asking.answered(*quick) and self._heard(), self.began + HEAR_S)
        asking.until(lambda: asking.answered(*quick) and self._silence_known(), self.began + HEAR_S + ASK_S)
        self._take()
        self.lan = str(told["lan"]) if (told := asking.told())["lan"] else None

    def _heard(self) -> bool:
        """True if every path that was tried has a result, and if it was not the service's answer, the other evidence
        about its silence, too."""
        return self.asking.answered(*WORDS) and self._silence_known()

    def _silence_known(self) -> bool:
        """True if the service has answered, or all other evidence about its silence is known."""
        told = self.asking.told()
        heard = [told[name] for name in WORDS if name in told]
        served = bool(heard) and all(h is not None and h.ok for h in heard)
        return served or self.asking.answered("agent", "arrived", "answers")

    def _take(self) -> None:
        """Add the answers so far to the evidence."""
        told, e = _so_far(self.asking), self.e
        with contextlib.suppress(OSError):
            # Its kernel may have panicked since the first look.
            told |= {"console": recent(self.ws.home, e.guest)}
        e = with_links(self.ws, self.door, with_guest(e, told), told)
        if e.way == "user":
            forward = None if self.seen.forwards is None else all(f in self.seen.forwards for f in self.door.forwards())
            held = None
            if forward is False and self.door.port:
                held = ports.holder(self.door.door.protocol, self.door.port.first)
            heard = e.tried.through is not None and e.tried.through.ok
            arrived = True if heard else told.get("arrived")
            e = e._replace(tried=e.tried._replace(forward=forward, held_by=held, arrived=arrived))
        if wordless(e.tried.through) and e.tried.direct and e.tried.direct.ok:
            # Two concurrent connections are too many for some services: the answer on one of them stands for both.
            e = e._replace(tried=e.tried._replace(through=e.tried.direct))
        self.e = e

    def _words(self) -> None:
        """A service that accepts connections but sends nothing may be slow: it gets more time, while the agent may name
        the program on that port. In user mode QEMU accepts before the guest does: a connection that has not reached the
        guest is not waited for."""
        e = self.e
        heard = e.tried.through if e.way == "user" else e.tried.direct
        if not wordless(heard) or e.tried.arrived is False or e.service == "tcp":
            return
        self.tell(e, f"the first bytes from its {e.service} server", self.until - time.monotonic())
        if self.guest.system != "windows" and self.seen.state != HUNG:
            self._inquire((LISTENERS, SERVICES), lambda inside: False)
        name = "through" if e.way == "user" else "direct"

        def enough() -> bool:
            told = why_mute(self.inquiry.inside, e.service, e.port)
            return self.asking.answered(name) or (told is not None and told.proved)

        if not self.asking.until(enough, lambda: self.until) and self._server_runs():
            most = self.began + MOST_S
            self.tell(e, f"the first bytes from its {e.service} server, which is running", most - time.monotonic())
            self.asking.until(enough, most)
        self._take()

    def _server_runs(self) -> bool:
        """True for an emulated guest that reports that the right program has the port and is not stopped: it may be
        slow, however long its agent's answers took."""
        told = why_mute(self.inquiry.inside, self.e.service, self.e.port)
        return told is not None and not told.proved and self.asked.wait_s is None and emulated(self.ws, self.guest.name)

    def _second(self) -> None:
        """Questions that depend on the first answers: a login, packet sizes, other ports."""
        e, asking = self.e, self.asking
        self.there = there.begin(self.asked.at, e, self.until)
        asking.ask(second_questions(self.ws, self.door, e, self.place, self.lan, self.asked, lambda: self.until))
        slow = ("login", *WORDS, "inside")
        quick = tuple(n for n in asking.names if n not in slow)
        asking.until(lambda: asking.answered(*quick, "login"), time.monotonic() + SOON_S)
        if not asking.answered("login"):
            who = self.asked.user or (self.guest.login.user if self.guest.login else "")
            self.tell(e, f"the login of {who}", self.until - time.monotonic())
            asking.until(lambda: asking.answered("login"), self.until + 0.5)
        asking.until(lambda: asking.answered(*quick), time.monotonic() + ROUND_S)
        self._take()

    def _inside(self) -> None:
        """If something blocks clients: the guest's own answers, until they explain it."""
        e = self._assembled()
        pieces = wanted(e)
        if not pieces or self.guest.system == "windows" or self.seen.state == HUNG:
            return  # no questions, or no answers possible
        known = self.inquiry.inside.told if self.inquiry.inside else frozenset()
        left = [p for p in pieces if p not in known]
        self._inquire(left, lambda inside: explained(self._assembled()._replace(inside=inside)))
        # An agent that was too busy to answer at once may still exist.
        least = time.monotonic() + LEAST_S
        if not self.asking.until(lambda: self.asking.answered("inside-2", "inside"), time.monotonic() + SOON_S):
            self.tell(e, "the guest's own answers", max(self.until, least) - time.monotonic())
            self.asking.until(lambda: self.asking.answered("inside-2", "inside"), lambda: max(self.until, least) + 0.3)

    def _second_look(self) -> None:
        """A port that refused while its server, as the guest reports, has it: the server may have restarted meanwhile.
        If it serves now, that is the evidence, and what depends on it is asked."""
        heard, inside, e = touched(self.e), self.inquiry.inside, self.e
        refused = heard is not None and not heard.ok and (heard.how == REFUSED or heard.heard == Heard.CLOSED)
        if not refused or inside is None or not serves(inside, e.port):
            return
        first = first_questions(self.ws, self.door, e, self.place, MOST_S, self.asking)
        self.asking.again({name: first[name] for name in WORDS if name in first})
        self.asking.until(self._heard, time.monotonic() + HEAR_S)
        self._take()
        if (now := touched(self.e)) is not None and now.ok:
            self.e = self.e._replace(tried=self.e.tried._replace(returned=True))
            self._second()

    def _inquire(self, pieces: Sequence[str], enough: Callable[[Inside], bool]) -> None:
        name = "inside" if "inside" not in self.asking.names else "inside-2"
        least = time.monotonic() + LEAST_S

        def moment() -> float:
            return max(self.until, least)

        # A guest whose other service is silent may still admit the lab's user by SSH: through its own door, or through
        # another guest.
        by_ssh = has_ssh_door(self.guest) or bool(candidates(self.ws, live_plan(self.ws), self.guest))
        beside = self.e.service != "ssh" and self.asked.login and by_ssh
        login = beside or (self.e.login is not None and self.e.login.result == IN)
        self.asking.ask({name: lambda: self.inquiry.run(pieces, moment, login=login, enough=enough)})

    def _assembled(self) -> Evidence:
        told, unanswered = self.asking.told(), self.asking.unanswered()
        e, door, listing = self.e, self.door, told.get("listing")
        from_lan = e.origin != "host"
        login, asker = told.get("login"), e.sources.asker
        at = e.place.address if e.place else ""
        host = e.host._replace(
            lan_address=self.lan,
            told_address=_told(self.ws),
            cut=told.get("cut"),
            arp_tables=listing.tables_of("arp") if listing else (),
            led=told.get("led"),
            taken=others.taken(door, listing, from_lan=from_lan, asker=asker, at=at),
            untracked=others.untracked(door, listing, from_lan=from_lan, asker=asker, at=at),
            dropped=others.dropped(self.ws.lab, door, listing, from_lan=from_lan, asker=asker, lan=self.lan),
            dropped_here=others.dropped_here(self.ws.lab, door, listing, e.place),
        )
        tried = e.tried._replace(
            elsewhere=told.get("elsewhere") or (), reply=told.get("reply"), sizes=told.get("sizes")
        )
        gathered = e.gathered._replace(
            took_s=self.asking.took_s,
            mute=self.inquiry.mute or self._unfinished(),
            unanswered=tuple((hop, why) for question, why in unanswered.items() for hop in HOPS_OF.get(question, ())),
        )
        return e._replace(
            now=time.time(),
            access=e.access._replace(agent_runs=self.inquiry.by_agent if self.inquiry.inside else None),
            tried=tried,
            key=key_matches(self.ws, e.guest, login.host_key) if login and login.host_key else told.get("key"),
            login=login,
            certificate=told.get("certificate"),
            inside=self.inquiry.inside,
            host=host,
            router=told.get("router"),
            names=e.names._replace(answer=told.get("named")),
            gathered=gathered,
        )

    def _unfinished(self) -> str:
        """Why the guest did not answer all questions; "" if it did."""
        late = any(map(self.asking.waiting, ("inside", "inside-2")))
        who = "its guest agent" if self.inquiry.by_agent else "the guest"
        return f"{who} did not answer within {self.asking.took_s:.0f} s" if late else ""


def _so_far(asking: Asking) -> Told:
    """The answers so far. A pending connection was accepted, and nothing was sent on it."""
    told = asking.told()
    for name in WORDS:
        if asking.waiting(name):
            told[name] = accepted(Heard.NOTHING)._replace(after_s=asking.took_s)
    return told


def _told(ws: Workspace) -> str | None:
    with contextlib.suppress(OSError):
        return ws.home.announced_address.read_text().strip()
    return None
