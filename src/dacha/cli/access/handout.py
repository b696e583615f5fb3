"""dacha handout."""

from __future__ import annotations

import argparse
from pathlib import Path

from dacha.cli import arguments
from dacha.cli.terminal import output
from dacha.core.lab.model import ORIGIN_WORDS, ORIGINS


def handout_arguments(parser: argparse.ArgumentParser) -> None:
    parser.description = (
        "Make a folder that gives somebody all they need to get in from where they are: OpenSSH's configuration and\n"
        "host keys, PuTTY's saved sessions, remote desktop's files, and a sheet to read or print. No private key\n"
        "is in it."
    )
    arguments.guests(parser, "only these (default: all)")
    parser.add_argument("--from", dest="origin", choices=ORIGINS, required=True, help="where they are")
    parser.add_argument("--output", metavar="FOLDER", help="where to write it (default: LAB-PLACE here)")


def run_handout(args: argparse.Namespace) -> int:
    from dacha.engine.reach.handout import SHEET, handout, write
    from dacha.engine.workspace import load

    ws = load(args.lab)
    ws.refuse_if_wrong()
    made = handout(ws, args.guests, args.origin)
    folder = Path(args.output or f"{ws.lab.name}-{args.origin}")
    write(made, folder)
    if args.json:
        ways = [{"guest": w.guest, "door": w.door, "service": w.service, "address": w.address, "port": w.port,
                 "user": w.user or None, "fingerprint": w.fingerprint or None} for w in made.ways]  # fmt: skip
        output.emit_json({"lab": ws.lab.name, "from": args.origin, "folder": str(folder.resolve()), "ways": ways,
                          "shut": [s._asdict() for s in made.shut], "files": sorted(made.files)})  # fmt: skip
        return 0
    output.say(f"{folder} gets somebody in from {ORIGIN_WORDS[args.origin]}:")
    for w in made.ways:
        output.step(f"{w.guest} {w.door}", f"{w.address}, port {w.port}" + (f", as {w.user}" if w.user else ""))
    for s in made.shut:
        output.step(f"{s.guest} {s.door}", f"not from there: {s.why}")
    output.say(f"Next: give them the folder; {folder / SHEET} says what to do with it")
    return 0
