"""dacha connect."""

from __future__ import annotations

import argparse
import os
import subprocess
import sys
from typing import TYPE_CHECKING

from dacha.cli import arguments
from dacha.cli.terminal import output
from dacha.core.errors import AnswerNo, UsageError

if TYPE_CHECKING:
    from dacha.engine.workspace import Workspace


def connect_arguments(parser: argparse.ArgumentParser) -> None:
    parser.description = (
        "Enter a guest by SSH through its door, run a command in it, or copy files. The guest's key is already known;\n"
        "another key than its own is refused. Uses the system's OpenSSH. A guest without an ssh door is entered by\n"
        "remote desktop, with the client that this machine has."
    )
    arguments.guest(parser)
    parser.add_argument("command", metavar="-- COMMAND", nargs="*", help="a command to run there instead of a shell")
    parser.add_argument("--user", metavar="USER", help="log in as another user than the lab's")
    parser.add_argument(
        "--copy", metavar=("FROM", "TO"), nargs=2,
        help="copy a file or a folder; what is in the guest begins with a colon: notes.txt :notes.txt",
    )  # fmt: skip
    parser.add_argument("--desktop", action="store_true", help="enter it by remote desktop, also beside an ssh door")
    parser.add_argument("--show", action="store_true", help="print the command instead of running it")


def run_connect(args: argparse.Namespace) -> int:
    from dacha.cli.words import lab_or_applied

    ws = lab_or_applied(args)
    if args.copy:
        return _copy(args, ws)
    argv = _desktop(args, ws) or _shell(args, ws)
    if args.json:
        output.emit_json({"command": argv})
    elif args.show:
        import shlex

        output.say(shlex.join(argv))
    else:
        sys.stdout.flush()
        os.execv(argv[0], argv)
    return 0


def _shell(args: argparse.Namespace, ws: Workspace) -> list[str]:
    from dacha.engine.inside.ssh import ssh_command

    terminal = sys.stdin.isatty() and not args.command
    return ssh_command(ws, args.guest, args.command, user=args.user, terminal=terminal)


def _desktop(args: argparse.Namespace, ws: Workspace) -> list[str]:
    """The remote desktop client's command, where that is meant; empty for SSH."""
    from dacha.engine.inside.desktop import desktop_command
    from dacha.engine.lab.named import guest_named

    services = [d.service for d in guest_named(ws, args.guest).doors]
    if not args.desktop and ("ssh" in services or "rdp" not in services):
        return []
    if args.command:
        raise UsageError("a command is run by SSH", remedy=f"dacha door add {args.guest} ssh --from host")
    return desktop_command(ws, args.guest, user=args.user)


def _copy(args: argparse.Namespace, ws: Workspace) -> int:
    from dacha.engine.inside.copy import copy_command

    if args.command or args.desktop:
        raise UsageError("files are copied, and nothing else is done", remedy="see: dacha connect --help")
    made = copy_command(ws, args.guest, args.copy, user=args.user, progress=sys.stdout.isatty())
    if args.json or args.show:
        import shlex

        told = f"printf %s {shlex.quote(made.told)} | {shlex.join(made.argv)}"
        output.emit_json({"command": made.argv}) if args.json else output.say(told)
        return 0
    sys.stdout.flush()
    done = subprocess.run(made.argv, input=made.told.encode(), check=False)
    if done.returncode:
        raise AnswerNo(
            f"not all was copied: sftp ended with {done.returncode}",
            remedy="what it said is above; the same command once more",
        )
    return 0
