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
        "Set a user's password in a guest, for its console and remote desktop. On a terminal it is asked for twice,\n"
        "else it is read from standard input. Only its hash is stored; SSH still requires a key."
    )
    arguments.guest(parser, "name")
    parser.add_argument("user", metavar="USER", nargs="?", help="the user (default: the login user)")
    parser.add_argument("--make", action="store_true", help="generate a password, and print it once")


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
        # A generated password is shown to the person only, and is in no answer that a script may store.
        output.emit_json({"guest": args.name, "user": user, "set": how})
    elif how:
        output.say(f"Set in {args.name} now, {how}, and for its next installation. Only its hash is stored.")
    elif passwords.plain(ws.home, args.name):
        output.say(
            f"Stored for the installer of {args.name}, which does not accept a hash, in a file of this user; at the end"
        )
        output.say("of the installation it is replaced by a hash.")
    else:
        output.say(f"Its hash is stored for the first boot of {args.name}.")
        output.say(f"If it is already installed: dacha start {args.name}, then this command again.")
    if args.make:
        output.note(f"The password for {user} in {args.name}, printed only once: {password}")
    return 0


def asked_once(what: str) -> str:
    """An existing secret; without a terminal, the next line of standard input."""
    if not sys.stdin.isatty():
        return sys.stdin.readline().rstrip("\r\n")
    return getpass.getpass(f"{what} (nothing is shown): ")


def asked_twice(what: str) -> str:
    """A new secret, typed twice; without a terminal, the first line of standard input. Raises UsageError."""
    if not sys.stdin.isatty():
        return sys.stdin.readline().rstrip("\r\n")
    first = getpass.getpass(f"{what} (nothing is shown): ")
    if getpass.getpass("Again: ") != first:
        raise UsageError("the two passwords differ; nothing was changed")
    return first
