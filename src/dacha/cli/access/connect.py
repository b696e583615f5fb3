"""dacha connect."""

from __future__ import annotations

import argparse
import os
import sys

from dacha.cli import arguments
from dacha.cli.terminal import output


def connect_arguments(parser: argparse.ArgumentParser) -> None:
    parser.description = (
        "Enter a guest by SSH through its door, or run a command in it. The guest's key is already known;\n"
        "another key than its own is refused. Uses the system's OpenSSH."
    )
    arguments.guest(parser)
    parser.add_argument("command", metavar="-- COMMAND", nargs="*", help="a command to run there instead of a shell")
    parser.add_argument("--user", metavar="USER", help="log in as another user than the lab's")
    parser.add_argument("--show", action="store_true", help="print the ssh command instead of running it")


def run_connect(args: argparse.Namespace) -> int:
    from dacha.cli.words import lab_or_applied
    from dacha.engine.inside.ssh import ssh_command

    ws = lab_or_applied(args)
    argv = ssh_command(ws, args.guest, args.command, user=args.user, terminal=sys.stdin.isatty() and not args.command)
    if args.json:
        output.emit_json({"command": argv})
    elif args.show:
        import shlex

        output.say(shlex.join(argv))
    else:
        sys.stdout.flush()
        os.execv(argv[0], argv)
    return 0
