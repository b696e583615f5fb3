"""The lab's own key, for users without one: created beside the lab file, and renewed in running guests.

A new pair has a higher number. During a renewal the lab file contains both in each place, so that nobody is locked out:
an old one is removed from a place when every guest concerned has the new one.
"""

from __future__ import annotations

import os
import re
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path

from dacha.core.errors import DachaError, UsageError
from dacha.core.findings import Path as Place
from dacha.core.lab.text.edits import Edit, Set
from dacha.core.named import NamedTuple
from dacha.engine.guest.keys import key_line
from dacha.engine.inside.keys import change_keys, waiting_keys
from dacha.engine.lab.edit import edit_lab
from dacha.engine.workspace import Workspace, load
from dacha.host.files import replace_file


class Renewed(NamedTuple):
    """The result of a renewal: the new public key's file, and for each guest concerned "renewed", "off" or "unreached"
    with the reason; `old` are the files of keys that the lab file no longer contains."""

    public: Path
    guests: dict[str, tuple[str, str]]
    old: list[str]


def pairs(ws: Workspace) -> dict[int, Path]:
    """The lab's existing public keys, by their number."""
    found = {}
    for path in ws.path.parent.glob(f"{ws.lab.name}_key*.pub"):
        number = re.fullmatch(rf"{re.escape(ws.lab.name)}_key(?:_([1-9]\d*))?\.pub", path.name)
        if number:
            found[int(number[1] or 1)] = path
    return found


def lab_key(ws: Workspace) -> str:
    """The file of the lab's own public key, beside the lab file; the pair is created if missing, its private key for
    this user only. Raises UsageError if half of it exists, HostError."""
    there = pairs(ws)
    if not there:
        return _make(ws, 1).name
    newest = there[max(there)]
    if not newest.with_suffix("").exists():
        raise UsageError(
            f"{newest.name} exists without the other file of its pair", where=str(newest),
            remedy="move it away, and Dacha creates a new pair",
        )  # fmt: skip
    return newest.name


def _make(ws: Workspace, number: int) -> Path:
    from dacha.formats.openssh import key_pair

    private = ws.path.parent / (f"{ws.lab.name}_key" + (f"_{number}" if number > 1 else ""))
    if private.exists():
        raise UsageError(
            f"{private.name} exists without the other file of its pair", where=str(private),
            remedy=f"run ssh-keygen -y -f {private} > {private}.pub, or move it away",
        )  # fmt: skip
    secret, line = key_pair(os.urandom(32), ws.lab.name)
    replace_file(private, secret, mode=0o600)
    replace_file(private.with_name(f"{private.name}.pub"), line)
    return private.with_name(f"{private.name}.pub")


def uses(ws: Workspace) -> dict[Place, list[str]]:
    """The places in the lab file with one of the lab's own keys, each with all its keys."""
    own = {path.resolve() for path in pairs(ws).values()}
    named: list[tuple[Place, Sequence[str]]] = [
        (("guest", g.name, "login", "keys"), g.login.keys) for g in ws.lab.guests.values() if g.login
    ]
    named += [(("person", p.name, "keys"), p.keys) for p in ws.lab.people.values()]
    return {where: list(keys) for where, keys in named if any(ws.resolve(k).resolve() in own for k in keys)}


def opened(ws: Workspace, where: Place) -> list[str]:
    """The guests that the keys of a place open."""
    if where[0] == "guest":
        return [str(where[1])]
    person = ws.lab.people[str(where[1])]
    return [g.name for g in ws.lab.guests.values() if person.may_enter(g)]


def renew(named: str | None) -> Renewed:
    """Create a new key of the lab, install it in the guests that the old one opens, and remove the old one; an
    interrupted renewal continues. Raises UsageError, LabError, HostError."""
    ws = load(named)
    ws.refuse_if_wrong()
    places = uses(ws)
    if not places:
        raise UsageError(
            "this lab has no key of its own" if not pairs(ws) else "no guest uses the lab's own key",
            remedy="dacha guest edit GUEST --make-key",
        )
    there = pairs(ws)
    newest = there[max(there)]
    concerned = list(dict.fromkeys(g for where in places for g in opened(ws, where)))
    done = all(_own(ws, keys) == {newest.resolve()} for keys in places.values())
    if done and not _still_inside(ws, concerned, newest):
        newest = _make(ws, max(there) + 1)
    ws = edit_lab(named, lambda ws: list(_edits(ws, newest, frozenset())))
    _change(ws, concerned)
    guests = {name: _inside(ws, name, newest) for name in concerned}
    left = frozenset(n for n, (state, _) in guests.items() if state != "renewed")
    ws = edit_lab(named, lambda ws: list(_edits(ws, newest, left, take=True)))
    for name, why in _change(ws, [n for n in concerned if n not in left]).items():
        guests[name] = ("unreached", why)
    named_yet = {path for keys in uses(ws).values() for path in _own(ws, keys)}
    gone = [p for p in pairs(ws).values() if p.resolve() not in named_yet]
    inside = _still_inside(ws, ws.home.guests(), newest)
    return Renewed(newest, guests, sorted(p.name for p in gone if p not in inside))


def _still_inside(ws: Workspace, names: Sequence[str], newest: Path) -> set[Path]:
    """The lab's older keys in one of these guests."""
    lines = {k for n in names for keys in (ws.home.read(n).keyed or {}).values() for k in keys}
    return {path for path in pairs(ws).values() if path != newest and key_line(ws, str(path)) in lines}


def _own(ws: Workspace, keys: Sequence[str]) -> set[Path]:
    own = {path.resolve() for path in pairs(ws).values()}
    return {ws.resolve(k).resolve() for k in keys} & own


def _edits(ws: Workspace, newest: Path, left: frozenset[str], *, take: bool = False) -> Iterator[Edit]:
    """The edits that add the new key to each place with one of the lab's own; with `take` they remove the older ones,
    except in places that open one of the guests `left`."""
    for where, keys in uses(ws).items():
        old = _own(ws, keys) - {newest.resolve()}
        if take and not left.intersection(opened(ws, where)):
            keys = [k for k in keys if ws.resolve(k).resolve() not in old]
        if newest.resolve() not in _own(ws, keys):
            keys = [*keys, newest.name]
        if keys != uses(ws)[where]:
            yield Set(where, keys)


def _change(ws: Workspace, names: Sequence[str]) -> Mapping[str, str]:
    """Change the keys of these guests to match the lab, if they are on; returns those that could not be reached, with
    the reason."""
    failed: dict[str, str] = {}
    for change, error, _ in change_keys(ws, waiting_keys(ws, [n for n in names if _on(ws, n)])):
        if isinstance(error, DachaError):
            failed[change.guest] = error.why or error.what
    return failed


def _on(ws: Workspace, name: str) -> bool:
    return ws.home.is_running(name)


def _inside(ws: Workspace, name: str, newest: Path) -> tuple[str, str]:
    """Whether the new key is in a guest: "renewed", also for one that was never started."""
    record, line = ws.home.read(name), key_line(ws, str(newest))
    if record.machine is None:
        return "renewed", "it was never started"
    if any(line in lines for lines in (record.keyed or {}).values()):
        return "renewed", ""
    if not _on(ws, name):
        return "off", "it is off, and still has the old key"
    return "unreached", "it did not accept the new key"
