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
    parser.description = "Shared folders: a folder of this host in a guest, writable or read-only."


def _add(parser: argparse.ArgumentParser) -> None:
    arguments.guest(parser)
    parser.add_argument("name", metavar="SHARE", help="name of the share (the guest mounts it by this name)")
    parser.add_argument("--folder", metavar="FOLDER", help="folder on this host (default: SHARE, beside the lab file)")
    parser.add_argument(
        "--at", metavar="PATH", help="mount point in the guest (default: /srv/SHARE, or a drive letter)"
    )
    _options(parser)


def _edit(parser: argparse.ArgumentParser) -> None:
    arguments.share(parser)
    parser.add_argument("--folder", metavar="FOLDER", help="folder on this host")
    parser.add_argument("--at", metavar="PATH", help="mount point in the guest")
    _options(parser)
    arguments.unset(parser)


def _list(parser: argparse.ArgumentParser) -> None:
    arguments.guest(parser, optional=True)


def _options(parser: argparse.ArgumentParser) -> None:
    from dacha.core.lab.kinds import SHARED_BY

    parser.add_argument(
        "--read-only", action=argparse.BooleanOptionalAction, default=None, help="read-only for the guest"
    )
    parser.add_argument(
        "--owner", metavar="NUMBER", type=int, help="its owner in the guest (default: 1000, the login user)"
    )
    parser.add_argument(
        "--anyway",
        action=argparse.BooleanOptionalAction,
        default=None,
        help="share it even if it exposes sensitive parts of this host",
    )
    parser.add_argument(
        "--by", choices=SHARED_BY, help="protocol (default: virtio-fs; Windows: smb, over a kernel network)"
    )


def _values(args: argparse.Namespace, ws: Workspace) -> dict[str, Any]:
    from dacha.engine.lab.proposals import written_file

    values = {
        "folder": written_file(ws, args.folder) if args.folder else None,
        "at": args.at, "read-only": args.read_only, "owner": args.owner, "anyway": args.anyway, "by": args.by,
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
        output.say(f"Next: dacha apply; to mount it in a running guest: dacha share show {args.guest} {share.name}")
        return 0
    output.say(f"Next: dacha apply; a running guest gets it at its next start: dacha restart {args.guest}")
    if ws.home.read(args.guest).machine is not None:
        # First-boot data is not applied again by itself.
        output.say(f"It was started before; to have it mounted: dacha guest first-boot {args.guest} --again")
    return 0


def _words(ws: Workspace, share: Share) -> str:
    only = ", read-only" if share.read_only else ""
    whose = "" if share.at.endswith(":") else f", owned by user {share.owner} there"
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
    from dacha.engine.shares.shared_folders import holds_lab_file

    limited: list[str] = []

    def decide(ws: Workspace) -> list[Edit]:
        guest = guest_named(ws, args.guest)
        if any(s.name == args.name for s in guest.shares):
            what = f"{args.guest} already has a share {args.name}"
            raise UsageError(what, where=ws.path.name, remedy=f"dacha share edit {args.guest} {args.name} …")
        values = {"folder": args.name, "at": mount_place(guest, args.name), **_values(args, ws)}
        if args.read_only is None and not args.anyway and holds_lab_file(ws, str(values["folder"])):
            values["read-only"] = True
            limited.append(f"note: {ws.path.name} is in this folder: the guest can only read it")
        return [Set(("guest", args.guest, "share", args.name), values)]

    ws = edit_lab(args.lab, decide, _judge(args))
    for why in limited:
        output.note(why)
    return _report(args, ws)


def run_edit(args: argparse.Namespace) -> int:
    from dacha.core.lab.text.edits import Edit, Set
    from dacha.engine.lab.edit import edit_lab
    from dacha.engine.lab.unset import unset_edits

    def decide(ws: Workspace) -> list[Edit]:
        _named(ws, args.guest, args.name)
        values, here = _values(args, ws), ("guest", args.guest, "share", args.name)
        if not (values or args.unset):
            raise UsageError("no changes specified", remedy="see: dacha share edit --help")
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
    output.say(f"{ws.path.name} no longer has share {args.guest} {args.name}; the folder is kept.")
    if by_smb:
        output.say("Next: dacha apply; then the guest loses access")
        return 0
    output.say(f"Next: dacha apply; a running guest keeps it until its next start: dacha restart {args.guest}")
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
        ("GUEST", "SHARE", "FOLDER ON THIS HOST", "IN THE GUEST", "BY", "OWNER", "MAY"),
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
    parser.add_argument("--password", action="store_true", help="include the guest's password for it")


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
        output.say(f"To print it with the password: dacha share show {args.guest} {share.name} --password")
    return 0


ACTIONS = (
    Action("add", "share a folder with a guest", "dacha share add gauge tides --read-only", _add, run_add),
    Action("edit", "change a share", "dacha share edit gauge tides --read-only", _edit, run_edit),
    Action("remove", "stop sharing a folder", "dacha share remove gauge tides", arguments.share, run_remove),
    Action("list", "list shared folders", "dacha share list", _list, run_list),
    Action("show", "show a share, and how to mount it", "dacha share show gauge tides", _show, run_show),
)
