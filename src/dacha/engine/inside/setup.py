"""Change the systems of running guests: what their setups put into them, in all guests in parallel."""

from __future__ import annotations

import time
from collections.abc import Collection, Iterator, Sequence

from dacha.core.apply.changes import ChangeInside
from dacha.core.apply.difference import resetup
from dacha.core.errors import AnswerNo, DachaError
from dacha.core.harmless import harmless
from dacha.core.inside.setup_items import UNSURE, Item, ItemChange, digests, kind_and_what, shown_name
from dacha.core.inside.setup_script import Answer, Answers, names_in_order, read_answers, script
from dacha.engine.console import first_boot
from dacha.engine.guest.observe import observe_guest
from dacha.engine.guest.setup_facts import setup_items_of, wanted_setups
from dacha.engine.inside.run import run_inside
from dacha.engine.side_by_side import side_by_side
from dacha.engine.workspace import Workspace

# Guests at the same time: each may install packages.
AT_ONCE = 8
# Packages take long in an emulated guest (seconds).
LONGEST_S = 3600.0
_REFUSED = {
    "denied": (
        "the login user does not become root without a password",
        "install the guest agent in it, or allow that user sudo without a password",
    ),
    "busy": ("an earlier change still runs in it", "dacha apply tries again"),
    "unwritable": ("/var/lib cannot be written", "dacha guest check {guest}"),
}


def doubt(ws: Workspace, name: str) -> None:
    """Record that a first boot failed: what its setup should have put into the guest may not be in it."""
    with ws.home.lock("apply", ws.path, lambda holder: None):
        record = ws.home.read(name)
        record.inside = dict.fromkeys(record.inside or {}, UNSURE)
        ws.home.write(name, record)


def waiting_inside(ws: Workspace, names: Collection[str]) -> list[ChangeInside]:
    """The changes inside these guests, as far as they are on. Only those that differ by their records are observed."""
    wanted = {n: items for n, items in wanted_setups(ws).items() if items != (ws.home.read(n).inside or {})}
    on = [n for n in names if n in wanted and ws.home.is_running(n)]
    found = [resetup(ws.lab.guests[n], observe_guest(ws.home, n, forwards=False), wanted.get(n)) for n in on]
    return [change for changes in found for change in changes if isinstance(change, ChangeInside)]


def change_inside(
    ws: Workspace, changes: Sequence[ChangeInside]
) -> Iterator[tuple[ChangeInside, DachaError | None, float]]:
    """Make the changes, and record the results: each with its error and the seconds it took. A partly successful change
    becomes two."""
    if not changes:
        return
    began = time.monotonic()
    for change in changes:
        _may_come_in(ws, change)
    ws.plan  # noqa: B018  # made once, before threads would each make it
    for change, said in zip(changes, side_by_side(lambda c: _in_guest(ws, c), list(changes), AT_ONCE), strict=True):
        for part, error in _noted(ws, change, said):
            yield part, error, time.monotonic() - began


def _may_come_in(ws: Workspace, change: ChangeInside) -> None:
    """Record things that are about to be put: a guest that does not answer in time may still have them."""
    record = ws.home.read(change.guest)
    record.inside = (record.inside or {}) | dict.fromkeys((*change.change.add, *change.change.change), UNSURE)
    ws.home.write(change.guest, record)


def _items(ws: Workspace, change: ChangeInside) -> list[Item]:
    named = {*change.change.add, *change.change.change}
    return [item for item in setup_items_of(ws, ws.lab.guests[change.guest]) if item.name in named]


def _in_guest(ws: Workspace, change: ChangeInside) -> Answers | DachaError:
    """The answers, or what prevented them."""
    if ws.lab.guests[change.guest].first_boot and first_boot(ws.home, change.guest).state == "running":
        return AnswerNo("it is not asked", why="its first boot still runs")
    items, take = _items(ws, change), change.change.take
    try:
        how, said = run_inside(ws, change.guest, script(items, take), limit_s=LONGEST_S)
    except DachaError as e:
        return e
    answers = read_answers(said, names_in_order(items, take))
    if answers is None:
        lines = harmless(said.strip()).splitlines() or ["it printed nothing"]
        return AnswerNo("it did not finish", why=f"{how}: {lines[-1][:200]}")
    if answers.refused:
        why, remedy = _REFUSED[answers.refused]
        return AnswerNo("it was refused", why=f"{how}: {why}", remedy=remedy.format(guest=change.guest))
    return answers


def _noted(
    ws: Workspace, change: ChangeInside, said: Answers | DachaError
) -> Iterator[tuple[ChangeInside, DachaError | None]]:
    """The successful part, recorded in the guest's record; and each thing that failed, with its error."""
    guest = change.guest
    if isinstance(said, DachaError):
        remedy = said.remedy or f"dacha trace {guest} shows the cause; dacha apply tries again"
        yield change, AnswerNo(f"{guest}: {change}", why=said.why or said.what, remedy=remedy)
        return
    none = Answer("failed", "it was not answered")
    answers = {name: said.by_name.get(name, none) for names in change.change for name in names}
    _record(ws, change, answers)
    made = ItemChange(*(tuple(n for n in names if answers[n].state == "done") for names in change.change))
    kept = tuple(f"left {shown_name(n)}: {a.why}" for n, a in answers.items() if a.state == "kept")
    if any(made) or kept:
        yield change._replace(change=made, told=kept), None
    for name, answer in answers.items():
        if answer.state == "failed":
            one = ItemChange(*((name,) if name in names else () for names in change.change))
            failed = f"{guest}: {ChangeInside(guest, one)}"
            yield ChangeInside(guest, one), AnswerNo(failed, why=answer.why, remedy="dacha apply tries again")


def _record(ws: Workspace, change: ChangeInside, answers: dict[str, Answer]) -> None:
    record = ws.home.read(change.guest)
    inside = dict(record.inside or {})
    wanted = digests(_items(ws, change))
    for name, answer in answers.items():
        if answer.state == "failed":
            continue
        if name in change.change.take:
            inside.pop(name, None)
        else:
            inside[name] = wanted[name]
        kind, what = kind_and_what(name)
        if kind == "user" and record.keyed is not None:
            # Its keys have a change of their own, once the account exists.
            if name in change.change.take:
                record.keyed.pop(what, None)
            else:
                record.keyed.setdefault(what, [])
    record.inside = inside
    ws.home.write(change.guest, record)
