"""dacha guest passphrase: another passphrase for an encrypted disk, or another source of it."""

from __future__ import annotations

import argparse

from dacha.cli import arguments
from dacha.cli.terminal import output


def passphrase_arguments(parser: argparse.ArgumentParser) -> None:
    parser.description = (
        "Change the passphrase of an encrypted disk of a guest that is off, and where it comes from. The old one is\n"
        "read from where the lab file says; it no longer opens the disk afterwards."
    )
    arguments.guest(parser, "name")
    parser.add_argument("--disk", metavar="DISK", help="its name (default: the first encrypted one)")
    parser.add_argument(
        "--to", metavar="SOURCE", default="ask", help="the new one: ask (default), a file, or credential:NAME"
    )


def run_passphrase(args: argparse.Namespace) -> int:
    from dacha.engine.states.encryption import change
    from dacha.engine.workspace import load

    ws = load(args.lab)
    ws.refuse_if_wrong()
    with ws.home.lock("guest passphrase", ws.path, lambda holder: output.note(f"waiting for {holder}")):
        ws, disk = change(args.lab, load(args.lab), args.name, args.disk, args.to)
    if args.json:
        output.emit_json({"guest": args.name, "disk": disk, "passphrase": args.to})
        return 0
    output.say(f"The passphrase of disk {disk} of {args.name} was changed. {ws.path.name} names its source: {args.to}")
    return 0
