"""dacha guest adopt: take over a machine that exists, with one password."""

from __future__ import annotations

import argparse
import contextlib
import sys
from typing import TYPE_CHECKING, Any

from dacha.cli import arguments
from dacha.cli.guest.keys import unmade
from dacha.cli.guest.password import asked_once
from dacha.cli.terminal import output
from dacha.core.errors import AnswerNo, UsageError

if TYPE_CHECKING:
    from dacha.core.inside.adopted import Adopted
    from dacha.engine.workspace import Workspace


def adopt_arguments(parser: argparse.ArgumentParser) -> None:
    parser.description = (
        "Take over a machine that exists: log in once with a password, show its host key and trust it, and add the\n"
        "lab's key to the account. With --from, the guest is added on that disk first, and started."
    )
    parser.add_argument("name", metavar="NAME", help="name of the guest; with --from a new one")
    parser.add_argument("--from", dest="image", metavar="DISK", help="its disk; Dacha never writes to it")
    parser.add_argument("--copy", action="store_true", help="with --from: copy the disk instead of building on it")
    parser.add_argument("--user", metavar="USER", help="account in the machine (default: the login user)")
    parser.add_argument("--memory", metavar="SIZE", help="with --from: memory of the guest")
    parser.add_argument("--network", metavar="NETWORK", help="with --from: its network (default: the first)")
    parser.add_argument("--address", metavar="ADDRESS", help="with --from: the address that the machine uses")
    parser.add_argument(
        "--host-key", metavar="SHA256:…", help="the expected fingerprint of its host key; without it, you are asked"
    )
    parser.add_argument("--yes", action="store_true", help="trust the host key that it presents, without a question")


def run_adopt(args: argparse.Namespace) -> int:
    """Take over a machine; exit code 1 if it refuses."""
    from dacha.cli.terminal.progress import waiting_line
    from dacha.engine.lab.named import guest_named
    from dacha.engine.reach import adopt
    from dacha.engine.workspace import load

    if args.image and not args.user:
        raise UsageError("--from needs the account in that machine", remedy="add --user USER")
    if args.image:
        _add(args)
    ws = load(args.lab)
    guest = guest_named(ws, args.name)
    user = args.user or (guest.login.user if guest.login else None)
    if user is None:
        raise UsageError(f"{args.name} has no login user", remedy=f"dacha guest adopt {args.name} --user USER")
    if guest.first_boot:
        why = "its keys and its host key come with first-boot data"
        remedy = f"dacha guest edit {args.name} --no-first-boot, if it does not read that"
        raise UsageError(f"{args.name} needs no adoption", why=why, remedy=remedy)
    adopt.refuse(ws, args.name)
    with waiting_line(quiet=args.json) as line:
        told = f"waiting for the SSH server of {args.name}"
        key = adopt.wait_for_key(ws, args.name, lambda: line.remind(told))
    _trusted(args, key.fingerprint)
    with unmade(args):
        keys = _keys(args, ws)
        found = adopt.adopt(ws, args.name, user, asked_once(f"Password of {user} in {args.name}"), key, keys)
    works = adopt.opens(_written(args, ws, user, keys), args.name)
    if args.json:
        head = {"guest": args.name, "user": user, "trusted": key.fingerprint, "answers": works}
        output.emit_json({**head, **_json(found)})
    else:
        _show(args.name, found, key.fingerprint, works)
    return 0 if works else 1


def _add(args: argparse.Namespace) -> None:
    """The new guest: on this disk, without first-boot data, with the lab's key and an SSH door; started."""
    from dacha.cli.commands import BY_NAME
    from dacha.cli.main import parser_for

    words = ["add", args.name, "--from", args.image, "--no-first-boot", "--make-key", "--door", "ssh"]
    words += ["--copy"] if args.copy else []
    for option in ("user", "memory", "network", "address", "lab"):
        value = getattr(args, option)
        words += [f"--{option}", value] if value else []
    for name, line in (("guest", words), ("apply", ["--no-wait", *(["--lab", args.lab] if args.lab else [])])):
        asked = parser_for(BY_NAME[name].name).parse_args(line)
        with contextlib.redirect_stdout(sys.stderr if args.json else sys.stdout):
            if asked.run(asked):
                raise AnswerNo(f"{args.name} was not started", remedy="see the messages above")


def _keys(args: argparse.Namespace, ws: Workspace) -> list[str]:
    """The keys of the guest's login, as the lab file has them; the lab's own key if it has no key."""
    from dacha.engine.people.lab_key import lab_key, pairs

    login = ws.lab.guests[args.name].login
    if login and login.keys:
        return list(login.keys)
    there = set(pairs(ws).values())
    own = lab_key(ws)
    args.made_keys = sorted(set(pairs(ws).values()) - there)
    return [own]


def _written(args: argparse.Namespace, ws: Workspace, user: str, keys: list[str]) -> Workspace:
    """The lab with this login, now that it works."""
    from dacha.core.lab.text.edits import Edit, Set
    from dacha.engine.lab.edit import edit_lab
    from dacha.engine.workspace import load

    login = ws.lab.guests[args.name].login
    if login and login.user == user and list(login.keys) == keys:
        return ws

    def decide(ws: Workspace) -> list[Edit]:
        return [Set(("guest", args.name, "login"), {"user": user, "keys": keys})]

    edit_lab(args.lab, decide)
    return load(args.lab)


def _trusted(args: argparse.Namespace, fingerprint: str) -> None:
    """Compare or confirm the host key. Raises UsageError if it is not trusted."""
    if args.host_key and args.host_key != fingerprint:
        why = f"expected {args.host_key}\npresented {fingerprint}"
        raise UsageError(f"{args.name} presents another host key; nothing was sent to it", why=why)
    if args.host_key or args.yes:
        return
    output.note(f"The host key of {args.name}: {fingerprint}")
    option = f"--host-key {fingerprint}, or --yes"
    arguments.confirm("Is that the key of this machine?", option, "nothing was sent to it")


def _json(found: Adopted) -> dict[str, Any]:
    return {
        "system": found.system,
        "new": found.added,
        "addresses": [address for _, address in found.addresses],
        "static_in": list(found.static),
        "agent": found.agent,
    }


def _show(name: str, found: Adopted, fingerprint: str, works: bool) -> None:
    """What was found in the machine, what was changed there, and what to do next."""
    output.step(f"guest {name}", f"{found.system or 'unknown system'}, which calls itself {found.host or 'nothing'}")
    output.step("host key", f"{fingerprint}, trusted from now on")
    what = f"added {output.plural(found.added, 'key')}" if found.added else "already has the key"
    output.step("login", f"{found.user}: {what}" + (f"; created {', '.join(found.made)}" if found.made else ""))
    sudo = "becomes root without a password" if found.administrator else "does not become root without a password"
    output.step("privileges", f"{found.user} {sudo}")
    for hardware, address in found.addresses:
        output.step("address", f"{address} on {hardware}")
    for file in found.static:
        output.step("static address", f"configured in {file}")
    output.step("guest agent", "installed" if found.agent else "not installed: trace and check see more with it")
    if not works:
        output.note(f"error: the key does not open {name} yet\n  dacha trace {name} ssh")
        return
    output.say(f"Next: dacha connect {name}, dacha guest check {name}")
