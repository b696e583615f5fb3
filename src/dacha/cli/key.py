"""dacha key show, renew."""

from __future__ import annotations

import argparse
from typing import Any

from dacha.cli.commands import Action, nothing
from dacha.cli.terminal import output


def key_arguments(parser: argparse.ArgumentParser) -> None:
    parser.description = "The lab's own key pair, beside the lab file; to create one: dacha guest edit GUEST --make-key"


def run_show(args: argparse.Namespace) -> int:
    from dacha.core.errors import UsageError
    from dacha.engine.guest.keys import key_line
    from dacha.engine.people.lab_key import opened, pairs, uses
    from dacha.engine.people.shown import opens, opens_words
    from dacha.engine.workspace import load
    from dacha.formats.openssh import fingerprint

    ws = load(args.lab)
    there, places = pairs(ws), uses(ws)
    if not there:
        raise UsageError("this lab has no key of its own", remedy="dacha guest edit GUEST --make-key")
    rows: list[dict[str, Any]] = []
    for number in sorted(there, reverse=True):
        path = there[number]
        mine = [where for where, keys in places.items() if path in [ws.resolve(k) for k in keys]]
        guests = list(dict.fromkeys(g for where in mine for g in opened(ws, where)))
        line = key_line(ws, str(path))
        when = {guest: opens(ws, guest, [line]) for guest in guests}
        rows.append({"file": str(path), "fingerprint": fingerprint(path.read_text()), "opens": guests, "when": when})
    if args.json:
        output.emit_json({"lab": ws.lab.name, "lab_keys": rows})
        return 0
    for n, row in enumerate(rows):
        which = "The key" if n == 0 else "An older one"
        output.say(f"{which}: {row['file']}\n  {row['fingerprint']}")
        if not row["when"]:
            output.say("  opens no guest of the lab")
        for guest, state in row["when"].items():
            output.say(f"  opens {guest} {opens_words(guest, state)}")
    return 0


def run_renew(args: argparse.Namespace) -> int:
    from dacha.engine.people.lab_key import renew
    from dacha.formats.openssh import fingerprint

    done = renew(args.lab)
    left = {name: state for name, (state, _) in done.guests.items() if state != "renewed"}
    if args.json:
        guests = [{"guest": n, "state": state, "why": why or None} for n, (state, why) in done.guests.items()]
        shown = fingerprint(done.public.read_text())
        output.emit_json({"file": str(done.public), "fingerprint": shown, "guests": guests, "old": done.old})
        return 1 if left else 0
    output.say(f"The lab's key is now {done.public}:")
    for name, (state, why) in done.guests.items():
        words = (
            "opened by the new key; the old one was removed"
            if state == "renewed"
            else f"still opened only by the old key: {why}"
        )
        output.step(name, f"{words}{f' ({why})' if state == 'renewed' and why else ''}")
    for file in done.old:
        output.say(f"{file} no longer opens any guest: delete it and its private key if you like")
    off = [n for n, state in left.items() if state == "off"]
    if off:
        output.say(f"Next: dacha start {' '.join(off)}, then run dacha key renew again")
    elif left:
        output.say(f"Next: dacha trace {next(iter(left))} shows the cause; then run dacha key renew again")
    else:
        output.say("Next: give the new private key to its users, over a secure channel")
    return 1 if left else 0


ACTIONS = (
    Action(
        "show", "show its files, its fingerprint, and the guests that it opens", "dacha key show", nothing, run_show
    ),
    Action(
        "renew",
        "create a new key, install it in all guests, and remove the old one",
        "dacha key renew",
        nothing,
        run_renew,
    ),
)
