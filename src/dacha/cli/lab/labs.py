"""dacha lab list, show, remove, rename, move: the labs of this host, independent of their files."""

from __future__ import annotations

import argparse
import time
from typing import Any

from dacha.cli import arguments
from dacha.cli.commands import Action, nothing
from dacha.cli.terminal import output
from dacha.core.errors import UsageError


def lab_arguments(parser: argparse.ArgumentParser) -> None:
    parser.description = (
        "The labs of this host: their disks, keys, records. To edit a lab file, use guest, network and door."
    )


def _show(parser: argparse.ArgumentParser) -> None:
    arguments.lab(parser, optional=True)


def _remove(parser: argparse.ArgumentParser) -> None:
    arguments.lab(parser)
    parser.add_argument("--with-disks", action="store_true", help="delete its disks, too")
    parser.add_argument("--yes", action="store_true", help="do not ask for a confirmation")
    parser.add_argument("--dry-run", action="store_true", help="show what would be removed, and remove nothing")


def _move(parser: argparse.ArgumentParser) -> None:
    arguments.lab(parser)
    where = parser.add_mutually_exclusive_group(required=True)
    where.add_argument("--file", metavar="FILE", help="new place of the lab file, after you moved it")
    where.add_argument("--state", metavar="FOLDER", help="move disks, keys and records into this folder")


def _rename(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("name", metavar="OLD", help="the lab's current name")
    parser.add_argument("new", metavar="NEW", help="its new name; it is also written into the lab file")


def run_list(args: argparse.Namespace) -> int:
    from dacha.core.units import show_size
    from dacha.engine.labs.kept_labs import homes, look

    labs = [look(home) for home in homes()]
    if args.json:
        output.emit_json({"labs": [_json(lab) for lab in labs]})
        return 0
    if not labs:
        output.say("No lab is known on this host. Next: dacha new NAME")
        return 0
    rows = []
    for lab in labs:
        on = sum(g.on for g in lab.guests)
        file = (
            str(lab.file) if lab.file_there else f"{lab.file}, which no longer exists" if lab.file else "never applied"
        )
        rows.append((lab.home.lab, f"{len(lab.guests)}, {on} on", show_size(lab.size), file))
    output.table(("LAB", "GUESTS", "KEPT", "LAB FILE"), rows)
    return 0


def run_show(args: argparse.Namespace) -> int:
    from dacha.core.units import show_size
    from dacha.engine.labs.kept_labs import home_named, look
    from dacha.engine.workspace import load

    name = args.name or load(args.lab).lab.name
    lab = look(home_named(name))
    if args.json:
        output.emit_json(_json(lab))
        return 0
    output.say(f"{name}: {show_size(lab.size)} in {lab.home.folder}")
    output.say(f"{'lab file':<11} {lab.file or 'never applied'}{'' if lab.file_there else ', which no longer exists'}")
    if lab.caretaker:
        output.say(f"{'caretaker':<11} runs{', started at boot' if lab.at_boot else ''}")
    elif lab.at_boot:
        output.say(f"{'caretaker':<11} is started at boot")
    for image in lab.images:
        output.say(f"{'is on':<11} {image}")
    rows = []
    for guest in lab.guests:
        first = _state(guest)
        for n in range(max(1, len(guest.disks))):
            disk = guest.disks[n] if n < len(guest.disks) else None
            beside = ", ".join(guest.beside) if n == 0 else ""
            rows.append(
                (guest.name if n == 0 else "", first if n == 0 else "", f"{disk.name}: {disk}" if disk else "", beside)
            )
    output.say()
    output.table(("GUEST", "STATE", "DISK", "AND"), rows or [("none", "", "", "")])
    return 0


def _state(guest: Any) -> str:
    if guest.on:
        return "on"
    if guest.removed is None:
        return "off"
    return "removed " + time.strftime("%-d %B %Y", time.localtime(guest.removed))


def _report(done: list[dict[str, str]], *, quiet: bool) -> Any:
    def report(subject: str, what: str) -> None:
        done.append({"subject": subject, "what": what})
        if not quiet:
            output.step(subject, what)

    return report


def run_remove(args: argparse.Namespace) -> int:
    from dacha.engine.labs.kept_labs import home_named, look
    from dacha.engine.labs.removal import refuse, remove

    lab = look(home_named(args.name))
    refuse(lab, with_disks=args.with_disks)
    if args.dry_run or not args.yes:
        losses = _losses(lab)
        if args.dry_run and args.json:
            output.emit_json({"removed": None, "done": [{"subject": s, "what": w} for s, w in losses]})
            return 0
        output.say(f"This would be deleted of {args.name}:")
        for subject, what in losses:
            output.step(subject, what)
        if args.dry_run:
            return 0
        arguments.confirm(f"Remove the lab {args.name}?", "--yes")
    done: list[dict[str, str]] = []
    remove(lab, _report(done, quiet=args.json), with_disks=args.with_disks)
    if args.json:
        output.emit_json({"removed": args.name, "done": done})
        return 0
    stays = f" {lab.file} is kept; dacha apply would create the lab again." if lab.file_there else ""
    output.say(f"Everything of {args.name} was removed.{stays}")
    return 0


def _losses(lab: Any) -> list[tuple[str, str]]:
    """What is deleted with a lab, by owner."""
    found = []
    for guest in lab.guests:
        found += [(f"guest {guest.name}", f"disk {disk.name} ({disk})") for disk in guest.disks]
        if guest.beside:
            found.append((f"guest {guest.name}", ", ".join(guest.beside)))
    return [*found, ("lab", f"known hosts, records and logs in {lab.home.folder}")]


def run_move(args: argparse.Namespace) -> int:
    from dacha.engine.labs.kept_labs import home_named, look
    from dacha.engine.labs.moving import move_file, move_state
    from dacha.host import folders

    lab = look(home_named(args.name))
    done: list[dict[str, str]] = []
    report = _report(done, quiet=args.json)
    if args.file:
        ws = move_file(lab, folders.expand(args.file).absolute(), report)
        said = f"{args.name} now uses the lab file {ws.path}."
    else:
        state = folders.expand(args.state).absolute()
        if state.resolve() == lab.home.folder.parent.parent.resolve():
            raise UsageError(f"{args.name} already uses this folder", where=str(state), remedy="choose another folder")
        move_state(lab, state, report)
        said = f"Next: dacha apply{f' --lab {lab.file}' if lab.file_there else ''}"
        if lab.at_boot:
            said += "\nand, to start it at boot: dacha caretaker install"
    if args.json:
        output.emit_json({"moved": args.name, "done": done})
    else:
        output.say(said)
    return 0


def run_rename(args: argparse.Namespace) -> int:
    from dacha.engine.labs.kept_labs import home_named, look
    from dacha.engine.labs.renaming import rename_lab

    lab = look(home_named(args.name))
    done: list[dict[str, str]] = []
    ws = rename_lab(lab, args.new, _report(done, quiet=args.json))
    if args.json:
        output.emit_json({"renamed": args.name, "to": args.new, "done": done})
        return 0
    output.say(
        f"Lab {args.name} was renamed to {args.new}, also in {ws.path}. Disks, host keys and addresses are kept."
    )
    output.say("Handouts contain the lab's name: create them again with dacha handout.\nNext: dacha apply")
    return 0


def _json(lab: Any) -> dict[str, Any]:
    return {
        "name": lab.home.lab,
        "folder": str(lab.home.folder),
        "file": str(lab.file) if lab.file else None,
        "file_there": lab.file_there,
        "size_bytes": lab.size,
        "caretaker": lab.caretaker,
        "at_boot": lab.at_boot,
        "images": [str(i) for i in lab.images],
        "guests": [
            {
                "name": g.name,
                "on": g.on,
                "removed": output.moment(g.removed),
                "disks": [
                    {"name": d.name, "file": str(d.path), "size_bytes": d.size, "on": d.base or None} for d in g.disks
                ],
                "beside": list(g.beside),
            }
            for g in lab.guests
        ],
    }


ACTIONS = (
    Action("list", "list the labs of this user", "dacha lab list", nothing, run_list),
    Action("show", "show the files of a lab", "dacha lab show saltmarsh", _show, run_show),
    Action(
        "remove", "remove everything that was created for a lab, but not its file",
        "dacha lab remove saltmarsh --with-disks", _remove, run_remove,
    ),
    Action("rename", "rename a lab", "dacha lab rename saltmarsh pier", _rename, run_rename),
    Action(
        "move", "move a lab to another state folder, or to another lab file",
        "dacha lab move saltmarsh --file /srv/pier/lab.toml", _move, run_move,
    ),
)  # fmt: skip
