"""Install keys in running guests and remove them: in all guests in parallel, so that nobody waits for others."""

from __future__ import annotations

import contextlib
import time
from collections.abc import Collection, Iterator, Sequence

from dacha.core.apply.changes import ChangeKeys
from dacha.core.apply.difference import rekey
from dacha.core.errors import AnswerNo, DachaError
from dacha.core.harmless import harmless
from dacha.core.lab.person import Person
from dacha.core.named import NamedTuple
from dacha.core.people.keys_inside import KeyChange, after, read_answers, script, together
from dacha.core.people.sessions_inside import read_ended, read_strangers
from dacha.engine.guest.keys import key_line, wanted_keys
from dacha.engine.guest.observe import observe_guest
from dacha.engine.inside.run import run_inside
from dacha.engine.workspace import Workspace

# Threads mostly wait for their guest.
AT_ONCE = 16


def lines_of(ws: Workspace, person: Person) -> set[str]:
    """A person's public keys, except unreadable ones."""
    lines = set()
    for written in person.keys:
        with contextlib.suppress(ValueError):
            lines.add(key_line(ws, written))
    return lines


def still_in(ws: Workspace, person: Person) -> dict[str, str]:
    """The guests that contain a key of a person, each with whether it is on."""
    lines, found = lines_of(ws, person), {}
    for name in ws.home.guests():
        record = ws.home.read(name)
        if any(lines & set(inside) for inside in together(record.keyed or {}, record.unsure).values()):
            found[name] = "on" if ws.home.is_running(name) else "off"
    return found


def waiting_keys(ws: Workspace, names: Collection[str]) -> list[ChangeKeys]:
    """The key changes in these guests, which were started as the lab file says."""
    wanted = wanted_keys(ws)
    found = [rekey(n, None, observe_guest(ws.home, n, forwards=False), wanted.get(n)) for n in names]
    return [change for changes in found for change in changes if isinstance(change, ChangeKeys)]


def change_keys(ws: Workspace, changes: Sequence[ChangeKeys]) -> Iterator[tuple[ChangeKeys, DachaError | None, float]]:
    """Make the changes, and record the results: each with its error and the seconds it took. A partly successful change
    becomes two."""
    if not changes:
        return
    began = time.monotonic()
    for change in changes:
        _may_come_in(ws, change)
    ws.plan  # noqa: B018  # made once, before threads would each make it
    from concurrent.futures import ThreadPoolExecutor

    with ThreadPoolExecutor(min(AT_ONCE, len(changes))) as pool:
        for change, said in zip(changes, pool.map(lambda c: _in_guest(ws, c), changes), strict=True):
            for part, error in _noted(ws, change, said):
                yield part, error, time.monotonic() - began


def _may_come_in(ws: Workspace, change: ChangeKeys) -> None:
    """Record keys that are about to be installed: a guest that does not answer in time may still install them."""
    record = ws.home.read(change.guest)
    record.unsure = together(record.unsure, {c.account: c.put for c in change.changes if c.put or c.own})
    record.own_accounts = sorted({*record.own_accounts, *(c.account for c in change.changes if c.own)})
    ws.home.write(change.guest, record)


class _Said(NamedTuple):
    """A guest's answers: for each account ("" for success, else the reason), about ended sessions, about other keys."""

    accounts: dict[str, str]
    told: tuple[str, ...]


def _in_guest(ws: Workspace, change: ChangeKeys) -> _Said | DachaError:
    """The answers, or what prevented them."""
    record = ws.home.read(change.guest)
    known = after(together(record.keyed or {}, record.unsure), change.changes)
    try:
        how, said = run_inside(ws, change.guest, script(change.changes, known))
    except DachaError as e:
        return e
    answers = read_answers(said)
    if answers is None:
        return AnswerNo(f"{change.guest} did not finish", why=f"{how}: {_last(said)}")
    return _Said(answers, (*_ended(said), *_strange(change.guest, said)))


def _ended(said: str) -> list[str]:
    return [
        f"ended {count} SSH session{'s' * (count != 1)} of {account}" for account, count in read_ended(said).items()
    ]


def _strange(guest: str, said: str) -> list[str]:
    found = read_strangers(said)
    told = []
    for account in dict.fromkeys(s.account for s in found):
        keys = ", ".join(str(s) for s in found if s.account == account)
        told.append(
            f"warning: {account} is also opened by {keys}, which Dacha did not install: dacha guest check {guest}"
        )
    return told


def _last(said: str) -> str:
    lines = harmless(said.strip()).splitlines() or ["it printed nothing"]
    return lines[-1][:200]


def _noted(
    ws: Workspace, change: ChangeKeys, said: _Said | DachaError
) -> Iterator[tuple[ChangeKeys, DachaError | None]]:
    """The successful changes, recorded in the guest's record; and the others, with the error."""
    if isinstance(said, DachaError):
        yield (
            change,
            AnswerNo(
                f"{change.guest}: {_what(change.changes)}",
                why=said.why or said.what,
                remedy=f"dacha trace {change.guest} shows the cause; dacha apply tries again",
            ),
        )
        return
    made = tuple(c for c in change.changes if said.accounts.get(c.account) == "")
    if made:
        record = ws.home.read(change.guest)
        record.keyed = after(record.keyed, made)
        # Keys of earlier, unanswered requests are as certain now as these.
        record.unsure = {a: k for a, k in record.unsure.items() if a not in [c.account for c in made]}
        shut = {c.account for c in made if c.shut}
        record.own_accounts = sorted({*record.own_accounts, *(c.account for c in made if c.own)} - shut)
        ws.home.write(change.guest, record)
        yield change._replace(changes=made, told=said.told), None
    left = tuple(c for c in change.changes if c not in made)
    if left:
        yield (
            change._replace(changes=left),
            AnswerNo(
                f"{change.guest}: {_what(left)}",
                why="; ".join(
                    f"{c.account}: {harmless(said.accounts.get(c.account) or 'no result was reported')}" for c in left
                ),
                remedy=f"to run its first boot again: dacha guest first-boot {change.guest} --again,\n"
                f"then dacha restart {change.guest}",
            ),
        )


def _what(changes: Sequence[KeyChange]) -> str:
    if any(c.take or c.shut for c in changes):
        return "keys that should no longer open it are still in it"
    return "keys could not be added to it"
