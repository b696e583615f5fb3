"""dacha handout."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING, Any

from dacha.cli import arguments
from dacha.cli.guest.password import asked_once, asked_twice
from dacha.cli.terminal import output
from dacha.core.errors import BadValue, UsageError
from dacha.core.lab.kinds import ORIGIN_WORDS, ORIGINS

if TYPE_CHECKING:
    from dacha.core.lab.person import Person
    from dacha.engine.reach.handout import Handout
    from dacha.engine.workspace import Workspace
    from dacha.formats.handout.rdp import Signer


def handout_arguments(parser: argparse.ArgumentParser) -> None:
    parser.description = (
        "Create a folder with all that a person needs to connect from their location: OpenSSH configuration and\n"
        "host keys, PuTTY sessions, remote desktop files, and a sheet to read or print. It contains no private key,\n"
        "unless you ask for one."
    )
    arguments.guests(parser, "only these guests (default: all that the person may enter)")
    arguments.for_person(parser, "the person that it is for (default: the login user)")
    parser.add_argument(
        "--from", dest="origin", choices=ORIGINS, help="the location of the recipient (default: the person's place)"
    )
    parser.add_argument("--output", metavar="FOLDER", help="target folder (default: NAME-PLACE here), or FILE.zip")
    parser.add_argument(
        "--with-key",
        action="store_true",
        help="with --for: add a new private key for the person, and its public key to the lab file",
    )
    parser.add_argument(
        "--no-passphrase", action="store_true", help="with --with-key: do not protect the key with a passphrase"
    )
    parser.add_argument(
        "--old-putty", action="store_true", help="with --with-key: write PuTTY's key file for versions before 0.75"
    )
    parser.add_argument(
        "--sign-with", metavar="FILE", help="sign the .rdp files with this PEM file (private key and certificate)"
    )


def run_handout(args: argparse.Namespace) -> int:
    from dacha.engine.people.edits import person_named
    from dacha.engine.people.new_key import let_in, make_key
    from dacha.engine.reach.handout import handout
    from dacha.engine.reach.handout_files import write
    from dacha.engine.workspace import load

    ws = load(args.lab)
    ws.refuse_if_wrong()
    person = person_named(ws, args.person) if args.person else None
    origin = args.origin or (person.origin if person else None)
    if origin is None:
        raise UsageError(
            "the location of the recipient is not specified", remedy="use --from host, lan or outside, or --for PERSON"
        )
    if person is None and (args.with_key or args.no_passphrase or args.old_putty):
        raise UsageError("a private key requires a person", remedy="use --for PERSON, one of: dacha person list")
    target = Path(args.output or f"{person.name if person else ws.lab.name}-{origin}")
    handout(ws, args.guests, origin, person)  # refuse what is impossible before prompting for anything
    signer = _signer(args.sign_with) if args.sign_with else None
    key = None
    if person and args.with_key:
        passphrase = "" if args.no_passphrase else asked_twice(f"Passphrase of {person.name}'s new key")
        key = make_key(ws.lab.name, person, passphrase, 2 if args.old_putty else 3)
    made = handout(ws, args.guests, origin, person, key, signer)
    write(made, target)
    if key and person:
        let_in(args.lab, person.name, key)
    if args.json:
        output.emit_json(_json(ws, made, target, person, key is not None))
        return 0
    whose = f"{target} lets {person.name if person else 'its user'} connect from {ORIGIN_WORDS[origin]}:"
    _say(made, target, whose)
    if key and person:
        output.note(
            f"A new private key for {person.name} is in {target}: whoever has it can log in as {person.name}.\n"
            f"Send it over a secure channel, and delete it here. Its public key is in {ws.path.name}:\n"
            "dacha apply installs it"
        )
    return 0


def _signer(file: str) -> Signer:
    from dacha.formats.handout.rdp import signer

    try:
        pem = Path(file).read_bytes()
    except OSError as e:
        raise UsageError(f"--sign-with: {file} cannot be read: {e.strerror}", remedy="use a PEM file") from None
    try:
        try:
            return signer(pem, None)
        except LookupError:
            return signer(pem, asked_once(f"Passphrase of the key in {file}").encode())
    except BadValue as e:
        raise UsageError(f"--sign-with {file}: {e.what}", remedy=e.remedy) from None


def _json(ws: Workspace, made: Handout, target: Path, person: Person | None, with_key: bool) -> dict[str, Any]:
    ways = [{"guest": w.guest, "door": w.door, "service": w.service, "address": w.address, "port": w.port,
             "user": w.user or None, "fingerprint": w.fingerprint or None} for w in made.ways]  # fmt: skip
    return {"lab": ws.lab.name, "person": person.name if person else None, "from": made.origin,
            "folder": str(target.resolve()), "private_key": with_key, "ways": ways,
            "shut": [s._asdict() for s in made.shut], "files": sorted(made.files)}  # fmt: skip


def _say(made: Handout, target: Path, whose: str) -> None:
    from dacha.engine.reach.handout import SHEET

    output.say(whose)
    for w in made.ways:
        output.step(f"{w.guest} {w.door}", f"{w.address}, port {w.port}" + (f", as {w.user}" if w.user else ""))
    for s in made.shut:
        output.step(f"{s.guest} {s.door}", f"not reachable from there: {s.why}")
    if target.suffix == ".zip":
        output.say(f"Next: send it to them; {SHEET} in it explains its use")
    else:
        output.say(f"Next: give them the folder; {target / SHEET} explains its use")
