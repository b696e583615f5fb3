"""dacha guest first-boot and host-key: what a guest is told at its first boot, and whose key is trusted."""

from __future__ import annotations

import argparse

from dacha.cli import arguments
from dacha.cli.terminal import output


def first_boot_arguments(parser: argparse.ArgumentParser) -> None:
    arguments.guest(parser, "name")
    parser.add_argument("--again", action="store_true", help="let the guest take it up again at its next start")


def host_key_arguments(parser: argparse.ArgumentParser) -> None:
    arguments.guest(parser, "name")
    parser.add_argument("--accept", action="store_true", help="trust the key that the guest shows now, whoever made it")


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
        output.say(
            f"At its next start {args.name} takes its first-boot data up again: its name, who may log in and with"
        )
        output.say(
            "which keys, its addresses, and the host key that the lab made for it. What else was changed in it stays."
        )
        output.say(f"Next: dacha restart {args.name}")
    else:
        for name, text in texts.items():
            output.say(f"--- {name}")
            output.say(text.rstrip())
    return 0


def run_host_key(args: argparse.Namespace) -> int:
    from dacha.engine.reach.host_key import accept, keys_of
    from dacha.engine.workspace import load

    ws = load(args.lab)
    keys = accept(ws, args.name) if args.accept else keys_of(ws, args.name)
    if args.json:
        output.emit_json({"guest": args.name, "trusted": keys.trusted or None, "shown": keys.shown or None,
                          "same": keys.same, "accepted": keys.accepted})  # fmt: skip
        return 0 if keys.same or args.accept else 1
    output.say(f"{'trusted' if not args.accept else 'before':<8} {keys.trusted or 'none'}")
    output.say(f"{'shown' if not args.accept else 'now':<8} {keys.shown or 'none: its SSH server does not answer'}")
    if args.accept and not keys.same:
        output.say(f"CAREFUL: {args.name} is trusted with this key from now on, though the lab did not make it.")
        output.say(
            f"  to go back to the lab's: dacha guest first-boot {args.name} --again, then dacha restart {args.name}"
        )
    elif keys.shown and not keys.same:
        output.say(f"Another key than the trusted one answers: dacha trace {args.name} says what to do.")
    return 0 if keys.same or args.accept else 1
