"""dacha guest first-boot and host-key: first-boot data, and trusted host keys."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from dacha.cli import arguments
from dacha.cli.terminal import output

if TYPE_CHECKING:
    from dacha.engine.workspace import Workspace


def first_boot_arguments(parser: argparse.ArgumentParser) -> None:
    arguments.guest(parser, "name")
    parser.add_argument("--again", action="store_true", help="apply it again at the guest's next start")


def host_key_arguments(parser: argparse.ArgumentParser) -> None:
    arguments.guest(parser, "name")
    which = parser.add_mutually_exclusive_group()
    which.add_argument(
        "--accept", action="store_true", help="trust the key that the guest presents now, wherever it comes from"
    )
    which.add_argument("--renew", action="store_true", help="install a new key in the running guest, and trust it")


def run_first_boot(args: argparse.Namespace) -> int:
    from dacha.engine.reach.host_key import documents_of, take_up_again
    from dacha.engine.workspace import load

    ws = load(args.lab)
    texts = documents_of(ws, args.name)
    if args.again:
        take_up_again(ws, args.name)
    if args.json:
        output.emit_json({"guest": args.name, "documents": texts, "again": args.again})
    elif args.again:
        output.say(f"At its next start, {args.name} applies its first-boot data again: its name, its login with")
        output.say("its keys, its addresses, and the host key that Dacha created for it. Other changes in it are kept.")
        output.say(f"Next: dacha restart {args.name}")
    else:
        for name, text in texts.items():
            output.say(f"--- {name}")
            output.say(text.rstrip())
    return 0


def _renew(args: argparse.Namespace, ws: Workspace) -> int:
    from dacha.engine.reach.new_host_key import renew, to_tell

    how, keys = renew(ws, args.name)
    if args.json:
        output.emit_json({"guest": args.name, "trusted": keys.trusted, "shown": keys.shown, "same": True,
                          "accepted": False})  # fmt: skip
        return 0
    output.say(f"{args.name} has a new host key, installed {how}; this host trusts it from now on.")
    output.say(f"now      {keys.trusted}")
    people = to_tell(ws, args.name)
    again = "\n".join(f"  dacha handout --for {person}" for person in people) or "  dacha handout"
    output.say(f"Earlier handouts contain the old key, and their clients will warn. Create them again:\n{again}")
    return 0


def run_host_key(args: argparse.Namespace) -> int:
    from dacha.engine.reach.host_key import accept, keys_of
    from dacha.engine.workspace import load

    ws = load(args.lab)
    if args.renew:
        return _renew(args, ws)
    keys = accept(ws, args.name) if args.accept else keys_of(ws, args.name)
    if args.json:
        output.emit_json({"guest": args.name, "trusted": keys.trusted or None, "shown": keys.shown or None,
                          "same": keys.same, "accepted": keys.accepted})  # fmt: skip
        return 0 if keys.same or args.accept else 1
    output.say(f"{'trusted' if not args.accept else 'before':<8} {keys.trusted or 'none'}")
    output.say(f"{'shown' if not args.accept else 'now':<8} {keys.shown or 'none: its SSH server does not respond'}")
    if args.accept and not keys.same:
        output.say(f"CAREFUL: this key of {args.name} is trusted from now on, although Dacha did not create it.")
        output.say(
            f"  to return to the key that Dacha created: dacha guest first-boot {args.name} --again, then dacha "
            f"restart {args.name}"
        )
    elif keys.shown and not keys.same:
        output.say(f"The guest presents another key than the trusted one; for the cause: dacha trace {args.name}")
    return 0 if keys.same or args.accept else 1
