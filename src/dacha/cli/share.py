"""dacha share add, edit, remove, list, show."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING, Any

from dacha.cli import arguments
from dacha.cli.commands import Action
from dacha.cli.terminal import output
from dacha.core.errors import UsageError

if TYPE_CHECKING:
    from dacha.core.lab.model import Share
    from dacha.engine.workspace import Workspace


def share_arguments(parser: argparse.ArgumentParser) -> None:
    parser.description = "Shared folders: a folder of this host in a guest, both ways or read-only."


def _add(parser: argparse.ArgumentParser) -> None:
    arguments.guest(parser)
    parser.add_argument("name", metavar="SHARE", help="the name by which the guest mounts it")
    parser.add_argument("--folder", metavar="FOLDER", help="the folder here (default: SHARE, beside the lab file)")
    parser.add_argument("--at", metavar="PATH", help="where it is in the guest (default: /srv/SHARE, or a letter)")
    _options(parser)


def _edit(parser: argparse.ArgumentParser) -> None:
    arguments.share(parser)
    parser.add_argument("--folder", metavar="FOLDER", help="the folder here")
    parser.add_argument("--at", metavar="PATH", help="where it is in the guest")
    _options(parser)
    arguments.unset(parser)


def _list(parser: argparse.ArgumentParser) -> None:
    arguments.guest(parser, optional=True)


def _options(parser: argparse.ArgumentParser) -> None:
    from dacha.core.lab.model import SHARED_BY

    parser.add_argument(
        "--read-only", action=argparse.BooleanOptionalAction, default=None, help="the guest changes nothing in it"
    )
    parser.add_argument(
        "--owner", metavar="NUMBER", type=int, help="whose it is in the guest (default: 1000, who logs in)"
    )
    parser.add_argument(
        "--anyway",
        action=argparse.BooleanOptionalAction,
        default=None,
        help="also one that gives much of this host away",
    )
    parser.add_argument(
        "--by", choices=SHARED_BY, help="how it comes there (default: virtio-fs; Windows: smb, over a kernel network)"
    )


def _values(args: argparse.Namespace) -> dict[str, Any]:
    values = {
        "folder": args.folder, "at": args.at, "read-only": args.read_only, "owner": args.owner, "anyway": args.anyway,
        "by": args.by,
    }  # fmt: skip
    return {k: v for k, v in values.items() if v is not None}


def _report(args: argparse.Namespace, ws: Workspace) -> int:
    share = _named(ws, args.guest, args.name)
    if args.json:
        output.emit_json(_json(ws, args.guest, share))
        return 0
    output.say(f"{ws.path.name} now has")
    output.step(f"share {args.guest} {share.name}", _words(ws, share))
    if share.by_smb:
        output.say(f"Next: dacha apply; what is typed in a guest that runs: dacha share show {args.guest} {share.name}")
        return 0
    output.say(f"Next: dacha apply; a guest that runs has it from its next start on: dacha restart {args.guest}")
    if ws.home.read(args.guest).machine is not None:
        # What was told at a first boot is not told anew by itself.
        output.say(f"It was started before, and mounts it when told again: dacha guest first-boot {args.guest} --again")
    return 0


def _words(ws: Workspace, share: Share) -> str:
    only = ", read-only" if share.read_only else ""
    whose = "" if share.at.endswith(":") else f", there of user {share.owner}"
    by = ", by smb" if share.by_smb else ""
    return f"{ws.resolve(share.folder).resolve()} at {share.at}{only}{by}{whose}"


def _json(ws: Workspace, guest: str, share: Share) -> dict[str, Any]:
    return {"guest": guest, "name": share.name, "folder": str(ws.resolve(share.folder).resolve()), "at": share.at,
            "read_only": share.read_only, "owner": share.owner, "by": share.by}  # fmt: skip


def _named(ws: Workspace, guest: str, name: str) -> Share:
    from dacha.core.spelling import did_you_mean
    from dacha.engine.lab.named import guest_named

    shares = {s.name: s for s in guest_named(ws, guest).shares}
    if name not in shares:
        remedy = did_you_mean(name, shares, f"dacha share add {guest} {name} --folder FOLDER")
        raise UsageError(f"{guest} has no share {name}", where=ws.path.name, remedy=remedy)
    return shares[name]


def _judge(args: argparse.Namespace) -> Any:
    from dacha.engine.shares import shared_folders, smb

    def judge(ws: Workspace) -> list[Any]:
        guest = ws.lab.guests[args.guest]
        found = [f for f in shared_folders.findings(ws, guest) if f.path[3:4] == (args.name,)]
        return found + (list(smb.findings(ws, guest)) if _named(ws, args.guest, args.name).by_smb else [])

    return judge


def run_add(args: argparse.Namespace) -> int:
    from dacha.core.lab.text.edits import Edit, Set
    from dacha.engine.lab.edit import edit_lab
    from dacha.engine.lab.named import guest_named
    from dacha.engine.shares.mounting import mount_place

    def decide(ws: Workspace) -> list[Edit]:
        guest = guest_named(ws, args.guest)
        if any(s.name == args.name for s in guest.shares):
            what = f"{args.guest} has a share {args.name} already"
            raise UsageError(what, where=ws.path.name, remedy=f"dacha share edit {args.guest} {args.name} …")
        return [
            Set(
                ("guest", args.guest, "share", args.name),
                {"folder": args.name, "at": mount_place(guest, args.name), **_values(args)},
            )
        ]

    return _report(args, edit_lab(args.lab, decide, _judge(args)))


def run_edit(args: argparse.Namespace) -> int:
    from dacha.core.lab.text.edits import Edit, Set
    from dacha.engine.lab.edit import edit_lab
    from dacha.engine.lab.unset import unset_edits

    def decide(ws: Workspace) -> list[Edit]:
        _named(ws, args.guest, args.name)
        values, here = _values(args), ("guest", args.guest, "share", args.name)
        if not (values or args.unset):
            raise UsageError("nothing to change was named", remedy="see: dacha share edit --help")
        return [*unset_edits(ws, here, args.unset), *(Set((*here, key), value) for key, value in values.items())]

    return _report(args, edit_lab(args.lab, decide, _judge(args)))


def run_remove(args: argparse.Namespace) -> int:
    from dacha.core.lab.text.edits import Edit, Remove
    from dacha.engine.lab.edit import edit_lab

    by_smb = False

    def decide(ws: Workspace) -> list[Edit]:
        nonlocal by_smb
        by_smb = _named(ws, args.guest, args.name).by_smb
        return [Remove(("guest", args.guest, "share", args.name))]

    ws = edit_lab(args.lab, decide)
    if args.json:
        output.emit_json({"removed": {"guest": args.guest, "share": args.name}})
        return 0
    output.say(f"{ws.path.name} no longer has share {args.guest} {args.name}; the folder stays.")
    if by_smb:
        output.say("Next: dacha apply; its guest is shut out of it then")
        return 0
    output.say(f"Next: dacha apply; a guest that runs has it until its next start: dacha restart {args.guest}")
    return 0


def run_list(args: argparse.Namespace) -> int:
    from dacha.engine.lab.named import guest_named
    from dacha.engine.workspace import load

    ws = load(args.lab)
    guests = [guest_named(ws, args.guest)] if args.guest else list(ws.lab.guests.values())
    rows = [_json(ws, g.name, s) for g in guests for s in g.shares]
    if args.json:
        output.emit_json({"lab": ws.lab.name, "shares": rows})
        return 0
    if not rows:
        output.say("No shared folders yet. Next: dacha share add GUEST NAME --folder FOLDER")
        return 0
    output.table(
        ("GUEST", "SHARE", "FOLDER HERE", "IN THE GUEST", "BY", "OWNER", "MAY"),
        [
            (
                r["guest"],
                r["name"],
                r["folder"],
                r["at"],
                r["by"],
                str(r["owner"]),
                "read" if r["read_only"] else "read, write",
            )
            for r in rows
        ],
    )
    return 0


def _show(parser: argparse.ArgumentParser) -> None:
    arguments.share(parser)
    parser.add_argument("--password", action="store_true", help="with the password that the guest opens it with")


def run_show(args: argparse.Namespace) -> int:
    from dacha.engine.shares.mounting import mounting
    from dacha.engine.workspace import load

    ws = load(args.lab)
    share = _named(ws, args.guest, args.name)
    told = mounting(ws, ws.lab.guests[args.guest], share, secret=args.password)
    if args.json:
        output.emit_json(_json(ws, args.guest, share) | {"server": told.server, "commands": list(told.commands)})
        return 0
    output.step(f"share {args.guest} {share.name}", _words(ws, share))
    if told.server:
        output.step("its server", told.server)
    output.say(told.where)
    for command in told.commands:
        output.say(f"  {command}")
    if told.server and not args.password:
        output.say(f"Its password in place of PASSWORD: dacha share show {args.guest} {share.name} --password")
    return 0


ACTIONS = (
    Action("add", "share a folder with a guest", "dacha share add gauge tides --read-only", _add, run_add),
    Action("edit", "change a share", "dacha share edit gauge tides --read-only", _edit, run_edit),
    Action("remove", "share it no more", "dacha share remove gauge tides", arguments.share, run_remove),
    Action("list", "list shared folders", "dacha share list", _list, run_list),
    Action("show", "show a share, and how a guest mounts it", "dacha share show gauge tides", _show, run_show),
)
