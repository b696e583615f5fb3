"""dacha guest answers: the answer file of a guest's installer."""

from __future__ import annotations

import argparse

from dacha.cli import arguments
from dacha.cli.terminal import output


def answers_arguments(parser: argparse.ArgumentParser) -> None:
    parser.description = (
        "The answer file that Dacha creates for the installer on a guest's medium, so that it asks no questions.\n"
        "Passwords and the private host key are omitted, unless you use --secrets."
    )
    arguments.guest(parser, "name")
    parser.add_argument("--secrets", action="store_true", help="include secrets")


def run_answers(args: argparse.Namespace) -> int:
    from dacha.engine.guest.answers import answers_of
    from dacha.engine.workspace import load

    found = answers_of(load(args.lab), args.name, secrets=args.secrets)
    if args.json:
        output.emit_json({"guest": args.name, "form": found.form, "given": found.given, "documents": found.documents})
        return 0
    for name, text in found.documents.items():
        output.say(f"--- {name}")
        output.say(text.rstrip())
    output.note(f"{found.form}, {found.given}")
    return 0
