"""People in the lab file: looked up, added, changed, and removed from what no longer exists."""

from __future__ import annotations

from collections.abc import Sequence

from dacha.core.errors import BadValue, UsageError
from dacha.core.lab.person import EVERYTHING, Person
from dacha.core.lab.text.edits import Edit, Set
from dacha.core.named import NamedTuple
from dacha.core.spelling import did_you_mean
from dacha.engine.guest.keys import key_line
from dacha.engine.lab.proposals import written_key
from dacha.engine.lab.unset import unset_edits
from dacha.engine.workspace import Workspace


class PersonChange(NamedTuple):
    """The changes of a person: names as on the command line."""

    name: str
    keys: tuple[str, ...] = ()
    not_keys: tuple[str, ...] = ()
    enter: tuple[str, ...] = ()
    not_enter: tuple[str, ...] = ()
    origin: str | None = None
    user: str | None = None
    unset: tuple[str, ...] = ()


def person_named(ws: Workspace, name: str) -> Person:
    """The person of that name. Raises UsageError with the most similar one."""
    person = ws.lab.people.get(name)
    if person is None:
        raise UsageError(
            f"no person {name} exists",
            where=ws.path.name,
            remedy=did_you_mean(name, ws.lab.people, f"add one: dacha person add {name} --key FILE.pub --enter GUEST"),
        )
    return person


def new_person(ws: Workspace, asked: PersonChange) -> list[Edit]:
    """The edits that add a person. Raises UsageError."""
    if asked.name in ws.lab.people:
        raise UsageError(
            f"a person {asked.name} already exists", where=ws.path.name, remedy=f"dacha person edit {asked.name} …"
        )
    keys = _keys(ws, asked.keys)
    values: dict[str, object] = {"keys": keys} if keys else {}
    if asked.enter:
        values["enters"] = _entered([], asked.enter)
    values |= {key: value for key, value in (("from", asked.origin), ("user", asked.user)) if value}
    return [Set(("person", asked.name), values)]


def person_edits(ws: Workspace, asked: PersonChange) -> list[Edit]:
    """The edits that change a person. Raises UsageError, also without any change."""
    person, here = person_named(ws, asked.name), ("person", asked.name)
    edits: list[Edit] = []
    if asked.keys or asked.not_keys:
        more = _keys(ws, asked.keys)
        gone = [key if key in person.keys else written_key(ws, key) for key in asked.not_keys]
        kept = _without(f"{asked.name} has no key", person.keys, gone)
        edits.append(Set((*here, "keys"), list(dict.fromkeys([*kept, *more]))))
    if asked.enter or asked.not_enter:
        had = [str(e) for e in person.enters]
        if person.everything and asked.not_enter:
            raise UsageError(
                f"{asked.name} enters all guests, so {asked.not_enter[0]} cannot be removed by itself",
                remedy=f"list the guests that remain: dacha person edit {asked.name} --unset enters --enter GUEST",
            )
        kept = _without(f"{asked.name} does not enter", had, asked.not_enter)
        edits.append(Set((*here, "enters"), _entered(kept, asked.enter)))
    edits += [Set((*here, key), value) for key, value in (("from", asked.origin), ("user", asked.user)) if value]
    unset = [key for key in asked.unset if not (key == "enters" and asked.enter)]
    edits += unset_edits(ws, here, unset)
    if not edits:
        raise UsageError("no changes specified", remedy="see: dacha person edit --help")
    return edits


def _entered(had: Sequence[str], more: Sequence[str]) -> list[str] | str:
    """What a person may enter, as in the file. A door of a guest that may be entered completely is omitted."""
    if EVERYTHING in more:
        return EVERYTHING
    wanted = list(dict.fromkeys(" ".join(e.split()) for e in (*had, *more)))
    return [e for e in wanted if e.split()[0] not in wanted or " " not in e]


def _without(what: str, had: Sequence[str], gone: Sequence[str]) -> list[str]:
    left = list(had)
    for each in (" ".join(g.split()) for g in gone):
        if each not in left:
            raise UsageError(
                f"{what} {each}", remedy=did_you_mean(each, left, f"there is: {', '.join(left) or 'none'}")
            )
        left.remove(each)
    return left


def _keys(ws: Workspace, keys: Sequence[str]) -> list[str]:
    """The keys in the lab file's form, each once. Raises UsageError for what is not a public key."""
    found = list(dict.fromkeys(written_key(ws, key) for key in keys))
    for written in found:
        try:
            key_line(ws, written)
        except BadValue as e:
            raise UsageError(f"--key {written}: {e.what}", remedy=e.remedy) from None
    return found
