"""Keep the port mappings: the router is asked to forward every door from outside, again before a mapping expires, and
to delete those of removed doors.

What it granted is recorded in router.json, so that status, reach and trace need no request.
"""

from __future__ import annotations

import contextlib
import time
from collections.abc import Callable
from ipaddress import IPv4Address
from typing import TYPE_CHECKING, Any

from dacha.core.apply.changes import AskRouter, Change
from dacha.core.errors import AnswerNo
from dacha.core.named import NamedTuple
from dacha.core.router.mapping import (
    NO_ROUTE,
    UNKNOWN,
    Mapping,
    MappingRequest,
    RouterState,
    behind,
    by_hand,
    requests,
)
from dacha.engine.home import Home
from dacha.engine.network.live import live_plan
from dacha.engine.workspace import Workspace
from dacha.host.files import locked
from dacha.host.network import addresses
from dacha.host.records import DAMAGED, read_record, write_record

if TYPE_CHECKING:
    from dacha.engine.router.session import Session

# Requests to a silent router take some seconds; concurrent ones wait for that.
WAIT_S = 30.0
VERSION = 1


def read(home: Home) -> RouterState:
    """The recorded state of the router."""
    try:
        data = read_record(home.router_note, VERSION)
        data.pop("version", None)
        made = [Mapping(MappingRequest(*m.pop("wanted")), **m) for m in data.pop("mappings")]
        asked = tuple(MappingRequest(*w) for w in data.pop("asked"))
        refused = tuple((str(g), str(d), str(why)) for g, d, why in data.pop("refused"))
        return RouterState(**data, mappings=tuple(made), asked=asked, refused=refused)
    except DAMAGED:
        return UNKNOWN


def _write(home: Home, known: RouterState) -> None:
    if known == UNKNOWN:
        home.router_note.unlink(missing_ok=True)
        return
    data: dict[str, Any] = known._asdict() | {"mappings": [m._asdict() for m in known.mappings]}
    write_record(home.router_note, VERSION, data)


def uses_router(ws: Workspace) -> bool:
    """True if a door is from outside, or was at the last apply."""
    return ws.lab.from_outside or ws.home.router_note.exists()


def needed(ws: Workspace) -> bool:
    """True if mappings must be kept alive."""
    return ws.lab.from_outside and not ws.lab.by_hand


def router_of(ws: Workspace) -> tuple[str, str] | None:
    """The router's address, and this host's as seen from there; None if there is none to ask."""
    if ws.lab.by_hand:
        return None
    router = ws.lab.router or addresses.gateway()
    source = addresses.source_to(str(router)) if router else None
    return (str(router), str(source)) if source else None


def requests_now(ws: Workspace) -> list[MappingRequest]:
    """Every port that the router should forward, with the present addresses."""
    there = router_of(ws)
    lan = IPv4Address(there[1]) if there else addresses.lan_address()
    return requests(ws.lab, live_plan(ws), lan)


class OutsideWay(NamedTuple):
    """A door from outside: its address there, or why it is unreachable (`above` if the router is behind another NAT),
    and what to enter by hand in a router without a protocol."""

    guest: str
    door: str
    address: str | None
    port: int | None
    above: str | None
    why: str
    by_hand: str


def ways(ws: Workspace) -> list[OutsideWay]:
    """Every door from outside, by the router's recorded state; no request is sent."""
    known, want, now = read(ws.home), requests_now(ws), time.time()
    found = []
    for guest, door in dict.fromkeys((w.guest, w.door) for w in want):
        line = by_hand([w for w in want if (w.guest, w.door) == (guest, door)])
        mapping = known.of(guest, door, now)
        if mapping:
            above = behind(known.address)
            found.append(OutsideWay(guest, door, known.address or None, mapping.outside_port, above, "", line))
        else:
            who = f"the router {known.router}: " if known.router else ""
            why = who + (known.why_not(guest, door) or "no request was sent to a router")
            found.append(OutsideWay(guest, door, None, None, None, why, line))
    return found


def difference(ws: Workspace) -> list[Change]:
    """The mappings to request and those to delete; no request is sent."""
    if not uses_router(ws):
        return []
    known, want = read(ws.home), requests_now(ws)
    now = time.time()
    new = dict.fromkeys((w.guest, w.door) for w in want if w not in known.asked or _lapsed(known, w, now))
    standing = {(w.guest, w.door) for w in want}
    gone = dict.fromkeys((w.guest, w.door) for w in known.asked if (w.guest, w.door) not in standing)
    if ws.lab.by_hand:
        new, gone = {}, dict.fromkeys((m.wanted.guest, m.wanted.door) for m in known.mappings)
    return [AskRouter(tuple(new), tuple(gone))] if new or gone else []


def _lapsed(known: RouterState, wanted: MappingRequest, now: float) -> bool:
    """True for a granted mapping that was not renewed."""
    mapping = next((m for m in known.mappings if m.wanted == wanted), None)
    return mapping is not None and not mapping.stands(now)


def ask(ws: Workspace) -> RouterState:
    """Request all mappings of the lab, and delete others. Nothing is raised for a router that refuses: the errors are
    part of its state. Raises BusyError, HostError."""
    return _round(ws, lambda before, want: want)


def keep(ws: Workspace) -> RouterState:
    """The same for the caretaker: mappings that are due, lost, or have another address now, of doors that were
    requested before. A caretaker that has not heard yet of a removed door must not request it again."""

    def asked_for(before: RouterState, want: list[MappingRequest]) -> list[MappingRequest]:
        keys = {(w.guest, w.door) for w in before.asked}
        return [w for w in want if (w.guest, w.door) in keys]

    return _round(ws, asked_for)


def _round(ws: Workspace, choose: Callable[[RouterState, list[MappingRequest]], list[MappingRequest]]) -> RouterState:
    with locked(ws.home.router_lock, "requests to the router", WAIT_S):
        before = read(ws.home)
        known = _keep(ws, before, choose(before, requests_now(ws)), time.time())
        _write(ws.home, known)
        return known


def _keep(ws: Workspace, before: RouterState, want: list[MappingRequest], now: float) -> RouterState:
    there = router_of(ws)
    if not want and not before.mappings:
        return UNKNOWN
    standing = tuple(m for m in before.mappings if m.stands(now))
    if there is None and not ws.lab.by_hand:
        # The route may be missing briefly, with this host's address: the router has lost nothing by that.
        asked = tuple(want) or (before.asked if ws.lab.from_outside else ())
        return before._replace(asked=asked, mappings=standing, trouble=NO_ROUTE, refused=())
    if there is None:
        _end_all(before, now)
        return RouterState(asked=tuple(want))
    if before.router != there[0]:
        before = RouterState(router=there[0])  # another router: it has none of the former one's mappings
    try:
        session = _session(there, before, now)
    except AnswerNo as e:
        kept = tuple(m for m in standing if m.wanted in want)
        return before._replace(asked=tuple(want), mappings=kept, trouble=e.what, refused=())
    made = [old for old in before.mappings if old.wanted not in want and not session.unmap(old)]
    refused: dict[tuple[str, str], str] = {}
    still = session.standing()
    for n, w in enumerate(want):
        mapping: Mapping | None = still.get(w)
        # The first is renewed at every look: only then PCP reports a changed outside address.
        if mapping is None or now >= mapping.due() or (n == 0 and mapping.speaks == "pcp"):
            try:
                # Lost mappings are requested unchanged: the outside port that users know is kept.
                mapping = session.map(w, mapping or next((m for m in before.mappings if m.wanted == w), None))
            except AnswerNo as e:
                refused[w.guest, w.door] = e.what
        if mapping is not None:
            made.append(mapping)
    if not want and not made:
        return UNKNOWN
    return RouterState(
        router=there[0], speaks=session.name, address=session.address, epoch_s=session.epoch_s, heard=now,
        mappings=tuple(made), asked=tuple(want), refused=tuple((g, d, why) for (g, d), why in refused.items()),
    )  # fmt: skip


def _end_all(before: RouterState, now: float) -> None:
    """Delete a router's obsolete mappings, if it responds; the others expire by themselves."""
    source = addresses.source_to(before.router) if before.mappings else None
    if source is not None:
        with contextlib.suppress(AnswerNo):
            session = _session((before.router, str(source)), before, now)
            for mapping in before.mappings:
                session.unmap(mapping)


def _session(there: tuple[str, str], before: RouterState, now: float) -> Session:
    """A session. Its module is imported late: commands that only read the recorded state need no socket."""
    from dacha.engine.router.session import Session

    return Session(there, before, now)
