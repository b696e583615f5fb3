"""dacha person add, edit, remove, list, show."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING, Any

from dacha.cli import arguments
from dacha.cli.commands import Action, nothing
from dacha.cli.terminal import output
from dacha.cli.words import person_words
from dacha.core.errors import BadValue
from dacha.core.lab.kinds import ORIGIN_WORDS

if TYPE_CHECKING:
    from dacha.core.lab.person import Person
    from dacha.engine.people.edits import PersonChange
    from dacha.engine.workspace import Workspace


def person_arguments(parser: argparse.ArgumentParser) -> None:
    parser.description = (
        "People who may enter guests, each with their own keys. dacha apply installs their keys in the guests that\n"
        "they may enter, also in running ones, and removes them when they leave."
    )


def _add(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("name", metavar="NAME", help="name of the person: lower-case letters, digits and dashes")
    _options(parser)


def _edit(parser: argparse.ArgumentParser) -> None:
    arguments.person(parser)
    _options(parser)
    arguments.many(parser, "--not-key", "not_keys", "FILE", "a key to remove, as it is in the file")
    arguments.many(parser, "--not-enter", "not_enter", "GUEST[ DOOR]", "access to remove")
    arguments.unset(parser)


def _options(parser: argparse.ArgumentParser) -> None:
    arguments.many(parser, "--key", "keys", "FILE", "their public key: a file or the key itself")
    arguments.many(
        parser,
        "--enter",
        "enter",
        "GUEST[ DOOR]",
        'access to add: a guest (gauge), a door ("charts rdp"), or all; may be repeated',
    )
    parser.add_argument(
        "--from",
        dest="origin",
        metavar="host|lan|outside",
        help="farthest place that they may connect from (default: lan)",
    )
    parser.add_argument("--user", metavar="USER", help="account in the guests (default: the login user of each)")


def _asked(args: argparse.Namespace) -> PersonChange:
    from dacha.engine.people.edits import PersonChange

    found: dict[str, Any] = {}
    for field in PersonChange._fields:
        value = getattr(args, field, None)
        found[field] = tuple(value or ()) if field not in ("name", "origin", "user") else value
    return PersonChange(**found)


def person_json(person: Person) -> dict[str, Any]:
    return {
        "name": person.name,
        "keys": list(person.keys),
        "enters": "all" if person.everything else [e._asdict() for e in person.enters],
        "from": person.origin,
        "user": person.user,
    }


def _report(args: argparse.Namespace, ws: Workspace) -> int:
    from dacha.core.people.check import check_people
    from dacha.core.people.ways import never_let_in
    from dacha.core.reach.reach import reach
    from dacha.engine.network.live import live_plan
    from dacha.engine.router.host_view import host_view

    person = ws.lab.people[args.name]
    if args.json:
        output.emit_json(person_json(person))
        return 0
    output.say(f"{ws.path.name} now has")
    output.step(f"person {args.name}", person_words(person))
    for f in [*check_people(ws.lab), *never_let_in(ws.lab, reach(ws.lab, live_plan(ws), host_view(ws)))]:
        if f.path[1] == args.name:
            output.note(f"{f.severity}: {f.what}\n  {f.remedy}")
    if not person.user and any(person.enters_by_ssh(g) and g.login for g in ws.lab.guests.values()):
        output.note(
            f"note: {args.name} uses the login user's account, and could add other keys there\n"
            f"  an account of their own would be locked when they leave: dacha person edit {args.name} --user "
            f"{args.name}"
        )
    output.say(f"Next: dacha apply installs their keys; dacha handout --for {args.name} creates their connection files")
    return 0


def run_add(args: argparse.Namespace) -> int:
    from dacha.engine.lab.edit import edit_lab
    from dacha.engine.people.edits import new_person

    return _report(args, edit_lab(args.lab, lambda ws: new_person(ws, _asked(args))))


def run_edit(args: argparse.Namespace) -> int:
    from dacha.engine.lab.edit import edit_lab
    from dacha.engine.people.edits import person_edits

    return _report(args, edit_lab(args.lab, lambda ws: person_edits(ws, _asked(args))))


def run_remove(args: argparse.Namespace) -> int:
    from dacha.core.lab.text.edits import Edit, Remove
    from dacha.engine.inside.keys import still_in
    from dacha.engine.lab.edit import edit_lab
    from dacha.engine.people.edits import person_named
    from dacha.engine.people.leaving import WayLeft, ways_left

    inside: dict[str, str] = {}
    left: list[WayLeft] = []

    def decide(ws: Workspace) -> list[Edit]:
        person = person_named(ws, args.name)
        inside.update(still_in(ws, person))
        left[:] = ways_left(ws, person)
        return [Remove(("person", args.name))]

    ws = edit_lab(args.lab, decide)
    if args.json:
        output.emit_json({"removed": args.name, "still_in": inside, "ways_left": [w._asdict() for w in left]})
        return 0
    output.say(f"{ws.path.name} no longer has person {args.name}.")
    on = [guest for guest, state in inside.items() if state == "on"]
    off = [guest for guest in inside if guest not in on]
    if on:
        output.say(f"Their keys still open {', '.join(on)}: dacha apply removes them and ends their sessions")
    if off:
        output.say(f"Off, so their keys are removed at its next start: {', '.join(off)}")
    if not inside:
        output.say("No guest has their keys.")
    if left:
        output.say(f"\n{args.name} may also know, or have left:")
        output.table(("GUEST", "WHAT", "TO RENEW OR END IT"), [(w.guest, w.what, w.remedy) for w in left])
    return 0


def run_list(args: argparse.Namespace) -> int:
    from dacha.engine.workspace import load

    ws = load(args.lab)
    people = list(ws.lab.people.values())
    if args.json:
        output.emit_json({"lab": ws.lab.name, "people": [person_json(p) for p in people]})
        return 0
    if not people:
        output.say("No people yet: only the login users can enter guests. Next: dacha person add NAME --key FILE.pub")
        return 0
    output.table(
        ("PERSON", "FROM", "ENTERS", "AS", "KEYS"),
        [
            (
                p.name,
                ORIGIN_WORDS[p.origin],
                "all guests" if p.everything else ", ".join(map(str, p.enters)) or "nothing",
                p.user or "who logs in",
                str(len(p.keys) or "none"),
            )
            for p in people
        ],
    )
    return 0


def run_show(args: argparse.Namespace) -> int:
    from dacha.engine.inside.keys import lines_of, still_in
    from dacha.engine.people.edits import person_named
    from dacha.engine.people.shown import NOW, opens, opens_words, ways_of
    from dacha.engine.workspace import load

    ws = load(args.lab)
    person = person_named(ws, args.name)
    inside = still_in(ws, person)
    ways = ways_of(ws, person)
    if args.json:
        shown = [w._asdict() for w in ways]
        output.emit_json(person_json(person) | {"fingerprints": _fingerprints(ws, person), "ways": shown, "in": inside})
        return 0
    output.say(f"{person.name} {person_words(person)}")
    for key, fingerprint in _fingerprints(ws, person).items():
        output.step("key", f"{fingerprint}  {key}")
    for way in ways:
        where = f"{way.address}, port {way.port}" if way.address else f"no access: {way.why}"
        account = f", as {way.user}" if way.user and way.address else ""
        output.step(f"{way.guest} {way.service}", where + account)
    entered = [g for g in ws.lab.guests.values() if person.enters_by_ssh(g) and person.keys]
    for guest in entered:
        state = opens(ws, guest.name, lines_of(ws, person))
        if state != NOW:
            output.step(f"guest {guest.name}", f"their keys open it {opens_words(guest.name, state)}")
    return 0


def _fingerprints(ws: Workspace, person: Person) -> dict[str, str]:
    from dacha.engine.guest.keys import key_line
    from dacha.formats.openssh import fingerprint

    found = {}
    for written in person.keys:
        try:
            found[written] = fingerprint(key_line(ws, written))
        except BadValue as e:
            found[written] = e.what
    return found


ACTIONS = (
    Action("add", "add a person", "dacha person add mara --key mara.pub --enter gauge", _add, run_add),
    Action("edit", "change a person", 'dacha person edit mara --enter "charts rdp"', _edit, run_edit),
    Action("remove", "remove a person", "dacha person remove mara", arguments.person, run_remove),
    Action("list", "list the people", "dacha person list", nothing, run_list),
    Action("show", "show one person, and their access", "dacha person show mara", arguments.person, run_show),
)
