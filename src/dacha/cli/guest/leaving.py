"""dacha guest remove, rename."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from dacha.cli import arguments
from dacha.cli.guest.listing import emit_guest
from dacha.cli.terminal import output

if TYPE_CHECKING:
    from dacha.engine.workspace import Workspace


def remove_arguments(parser: argparse.ArgumentParser) -> None:
    arguments.guest(parser, "name")
    parser.add_argument("--with-disks", action="store_true", help="delete its disks, too, at the next apply")


def rename_arguments(parser: argparse.ArgumentParser) -> None:
    arguments.guest(parser, "name")
    parser.add_argument(
        "new_name", metavar="NEW-NAME", help="new name of the guest: lower-case letters, digits and dashes"
    )


def run_remove(args: argparse.Namespace) -> int:
    from dacha.core.lab.text.edits import Edit, Remove
    from dacha.core.people.accounts import edits_without
    from dacha.engine.disks.kept_disks import kept
    from dacha.engine.lab.edit import edit_lab
    from dacha.engine.lab.named import guest_named
    from dacha.engine.workspace import load

    def decide(ws: Workspace) -> list[Edit]:
        guest_named(ws, args.name)
        return [Remove(("guest", args.name)), *edits_without(ws.lab, args.name)]

    ws = load(args.lab)
    # A guest that is not in the file any more may have disks that were kept.
    left = args.name not in ws.lab.guests and args.with_disks and ws.home.disks(args.name)
    ws = ws if left else edit_lab(args.lab, decide)
    disks = kept(ws.home, args.name)
    on = ws.home.is_running(args.name)
    if args.with_disks and disks:
        with ws.home.lock("guest", ws.path):
            record = ws.home.read(args.name)
            record.delete_disks = [d.name for d in disks]
            ws.home.write(args.name, record)
    if args.json:
        files = [str(d.path.resolve()) for d in disks]
        output.emit_json({"removed": args.name, "running": on, "disks": files, "disks_go": bool(args.with_disks)})
        return 0
    if not left:
        output.say(f"{ws.path.name} no longer has guest {args.name}.")
    for disk in disks:
        fate = "will be deleted" if args.with_disks else "is kept"
        output.say(f"  its disk {disk.name} {fate}: {disk}, {disk.path.resolve()}")
    if on:
        output.say("It is still on; dacha apply stops it.")
    if args.with_disks and disks:
        output.say(f"Next: dacha apply deletes {'these disks' if disks[1:] else 'this disk'}; dacha diff shows them")
    return 0


def run_rename(args: argparse.Namespace) -> int:
    from dacha.engine.guest.rename import rename

    ws = rename(args.lab, args.name, args.new_name)
    if args.json:
        emit_guest(ws, args.new_name)
        return 0
    disks = ", ".join(name for name, _ in ws.home.disks(args.new_name))
    output.say(f"{ws.path.name} now has")
    output.step(f"guest {args.new_name}", f"{args.name} before")
    if disks:
        output.step("disks", f"{disks}: their contents are kept")
    for adapter in ws.plan.adapters_of(args.new_name):
        output.step("adapter", f"{adapter.hardware_address} on {adapter.network}, unchanged")
    output.say(f"Next: dacha apply; its own system gets the name {args.new_name} at its next start")
    return 0
