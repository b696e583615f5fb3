"""The parameters of a trace, and its parallel questions: each in a thread of its own, none waited for longer than there
is time."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable
from typing import TYPE_CHECKING, Any, cast

from dacha.core.errors import DachaError
from dacha.core.named import NamedTuple, TypedDict
from dacha.core.plan.doors import DoorPlan

if TYPE_CHECKING:
    from ipaddress import IPv4Address

    from dacha.core.lab.kinds import Origin
    from dacha.core.network.confinement import Confinement
    from dacha.core.network.firewall.walk import Rules
    from dacha.core.network.uplink import Cut
    from dacha.core.trace.seen.results import Certificate, ConnectResult, LoginSeen, RouterSeen, ThereSeen, Unforwarded
    from dacha.host.network.iproute import OwnWay, SeenLink


class Asked(NamedTuple):
    """What to trace: the planned door, its origin, and (for a limited one) the client; `wait_s` is how long a guest may
    take for a pending answer, None for as long as it seems to need; with `login` the lab file's user logs in by SSH;
    `at` is another machine (USER@HOST) that tries it, too; `user` replaces the login user, by remote desktop with this
    `password`."""

    plan: DoorPlan
    origin: Origin
    asker: str | None
    wait_s: float | None = None
    login: bool = True
    at: str | None = None
    user: str | None = None
    password: str | None = None


class Told(TypedDict, total=False):
    """The answers by question. A question that was not asked has no key; None means no answer."""

    # The guest.
    console: bytes | None
    agent: list[tuple[str, str]] | None  # its links and addresses
    status: str | None
    room: tuple[int, str] | None
    # Connections.
    through: ConnectResult | None
    direct: ConnectResult | None
    reply: ConnectResult | None
    arrived: bool | None
    elsewhere: tuple[int, ...] | None
    sizes: tuple[int, ...] | None
    login: LoginSeen | None
    key: bool | None
    certificate: Certificate | None
    there: ThereSeen | None
    # This host, its network, the router.
    lan: IPv4Address | None
    cut: Cut | None
    links: dict[str, SeenLink] | None
    confinement: Confinement | None
    answers: tuple[tuple[str, ...], float] | None
    route: OwnWay | None
    pinned: str | None
    learnt: bool | None
    shaped: list[str] | None
    forwarded: Unforwarded | None
    rules: str | None
    changed: str | None
    listing: Rules | None
    led: tuple[str, int] | None
    named: tuple[str, ...] | None
    router: RouterSeen | None


class Asking:
    """Questions and their answers by name. One that does not answer in time is None, and may still answer later."""

    def __init__(self) -> None:
        self._told: dict[str, Any] = {}
        self._failed: dict[str, str] = {}
        self._threads: dict[str, threading.Thread] = {}
        self._began = time.monotonic()
        self._heard = threading.Condition()

    def ask(self, questions: dict[str, Callable[[], Any]]) -> None:
        """Ask new questions. The threads are not waited for at the end, so that an interrupted trace exits at once."""

        def answer(name: str, question: Callable[[], Any]) -> None:
            try:
                self._told[name] = question()
            except (DachaError, OSError) as e:
                self._failed[name] = str(e)
            except Exception as e:  # a fault of ours in one question leaves the others their answers
                self._failed[name] = f"internal error, please report it: {type(e).__name__}: {e}"
            with self._heard:
                self._heard.notify_all()

        for name, question in questions.items():
            if name in self._threads:
                continue
            self._threads[name] = threading.Thread(target=answer, args=(name, question), daemon=True)
            self._threads[name].start()

    def again(self, questions: dict[str, Callable[[], Any]]) -> None:
        """Ask questions again that have an answer: it no longer counts."""
        for name in questions:
            self._threads.pop(name, None)
            self._told.pop(name, None)
            self._failed.pop(name, None)
        self.ask(questions)

    def until(self, enough: Callable[[], bool], moment: float | Callable[[], float]) -> bool:
        """Wait until the answers are `enough`, or until a moment of the monotonic clock, which may move meanwhile; True
        if they are."""
        while not enough():
            left = (moment() if callable(moment) else moment) - time.monotonic()
            if left <= 0:
                return False
            with self._heard:
                # A thread is still alive for a moment after its answer.
                self._heard.wait(min(left, 0.1))
        return True

    def wait(self, limit_s: float) -> None:
        """Wait until all have answered, for at most `limit_s` seconds."""
        self.until(lambda: not any(map(self.waiting, self._threads)), time.monotonic() + limit_s)

    def answered(self, *names: str) -> bool:
        """True if each of these that was asked has an answer, or failed."""
        return not any(n in self._threads and n not in self._told and n not in self._failed for n in names)

    @property
    def names(self) -> tuple[str, ...]:
        return tuple(self._threads)

    def waiting(self, name: str) -> bool:
        """True for a question that may still be answered."""
        return name in self._threads and name not in self._told and name not in self._failed

    @property
    def took_s(self) -> float:
        """Seconds since the first question."""
        return time.monotonic() - self._began

    def told(self) -> Told:
        """The answers so far; None for those without one."""
        return cast("Told", {name: self._told.get(name) for name in self._threads})

    def unanswered(self) -> dict[str, str]:
        """Why questions have no answer."""
        late = f"no answer came within {self.took_s:.0f} s"
        return {n: self._failed.get(n, late) for n in self._threads if n not in self._told}
