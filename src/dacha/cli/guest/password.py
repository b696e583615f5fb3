"""dacha guest password."""

from __future__ import annotations

import argparse
import getpass
import sys

from dacha.cli import arguments
from dacha.cli.terminal import output
from dacha.core.errors import UsageError


def password_arguments(parser: argparse.ArgumentParser) -> None:
    parser.description = (
        "Give somebody in a guest a password, for its console and remote desktop. Asked for twice on a terminal, read\n"
        "from standard input elsewhere. It is kept as a hash only; SSH goes on with keys."
    )
    arguments.guest(parser, "name")
    parser.add_argument("user", metavar="USER", nargs="?", help="whose (default: who logs in)")
    parser.add_argument("--make", action="store_true", help="make one, and show it once")


def run_password(args: argparse.Namespace) -> int:
    from dacha.engine.guest import passwords
    from dacha.engine.inside.password import set_now
    from dacha.engine.lab.named import guest_named
    from dacha.engine.workspace import load

    ws = load(args.lab)
    user = passwords.user_of(guest_named(ws, args.name), args.user)
    password = passwords.made() if args.make else asked_twice(f"New password of {user} in {args.name}")
    hashed = passwords.keep(ws, args.name, user, password)
    how = set_now(ws, args.name, user, hashed)
    if args.json:
        # One that was made is shown to whoever asked for it, and is in no answer that a script may keep.
        output.emit_json({"guest": args.name, "user": user, "set": how})
    elif how:
        output.say(f"Set in {args.name} at once, {how}, and for its next installation. Kept as a hash only.")
    elif passwords.plain(ws.home, args.name):
        output.say(
            f"Kept for the installer of {args.name}, that takes no hash, by a file of this user alone; with the end"
        )
        output.say("of the installation nothing but a hash of it stays.")
    else:
        output.say(f"Kept as a hash only, for the first boot of {args.name}.")
        output.say(f"If it was installed before: dacha start {args.name}, then this once more.")
    if args.make:
        output.note(f"The password of {user} in {args.name}, shown this once: {password}")
    return 0


def asked_once(what: str) -> str:
    """A secret that is there already; on no terminal the next line of standard input."""
    if not sys.stdin.isatty():
        return sys.stdin.readline().rstrip("\r\n")
    return getpass.getpass(f"{what} (nothing is shown): ")


def asked_twice(what: str) -> str:
    """A secret, typed twice; on no terminal the first line of standard input. Raises UsageError."""
    if not sys.stdin.isatty():
        return sys.stdin.readline().rstrip("\r\n")
    first = getpass.getpass(f"{what} (nothing is shown): ")
    if getpass.getpass("Again: ") != first:
        raise UsageError("the two are not the same; nothing was changed")
    return first
