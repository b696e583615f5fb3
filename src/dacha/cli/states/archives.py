"""dacha guest archives: those that the lab file has made by itself."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING, Any

from dacha.cli import arguments
from dacha.cli.terminal import output
from dacha.core.errors import UsageError

if TYPE_CHECKING:
    from dacha.engine.archive.scheduled import Made
    from dacha.engine.workspace import Workspace


def archives_arguments(parser: argparse.ArgumentParser) -> None:
    parser.description = (
        "List the archives that guests have by the key `archive` of their table in the lab file. The caretaker makes\n"
        "them; --make makes those that are due, such as from a timer of your own."
    )
    arguments.guest(parser, "name", optional=True, what="only this guest")
    parser.add_argument("--make", action="store_true", help="make the archives that are due, and delete old ones")


def run_archives(args: argparse.Namespace) -> int:
    from dacha.engine.lab.named import guest_named
    from dacha.engine.workspace import load

    ws = load(args.lab)
    names = [guest_named(ws, args.name).name] if args.name else list(ws.lab.guests)
    scheduled = [n for n in names if ws.lab.guests[n].archive]
    if args.name and not scheduled:
        what = f"{args.name} has no schedule for archives"
        raise UsageError(what, remedy=f"dacha guest edit {args.name} --archive-in FOLDER")
    return _make(args, ws, scheduled) if args.make else _list(args, ws, scheduled)


def _list(args: argparse.Namespace, ws: Workspace, names: list[str]) -> int:
    import time

    from dacha.core.units import show_size
    from dacha.engine.archive.due import Archive, archives, due_guests

    found: list[tuple[str, Archive]] = [(n, a) for n in names for a in archives(ws, n).values()]
    due = set(due_guests(ws, time.time())) & set(names)
    if args.json:
        rows = [{"guest": n, "at": output.moment(a.at), "size_bytes": a.length, "file": str(a.file),
                 "since": None if a.since is None else output.moment(a.since)} for n, a in found]  # fmt: skip
        output.emit_json({"lab": ws.lab.name, "archives": rows, "due": sorted(due)})
        return 0
    if not names:
        output.say("No guest has a schedule for archives. Such as: dacha guest edit GUEST --archive-in FOLDER")
        return 0
    if found:
        output.table(
            ("GUEST", "MADE", "HAS", "SIZE", "FILE"),
            [
                (n, _minute(a.at), "whole disks" if a.since is None else "changes", show_size(a.length), str(a.file))
                for n, a in found
            ],
        )
    else:
        output.say("No archive was made yet.")
    if due:
        output.say(f"Due now: {', '.join(sorted(due))}. Next: dacha guest archives --make")
    return 0


def _make(args: argparse.Namespace, ws: Workspace, names: list[str]) -> int:
    import time

    from dacha.cli.states.holding import held
    from dacha.cli.terminal.progress import share_bar
    from dacha.engine.archive.scheduled import make_due

    ws.refuse_if_wrong()
    with share_bar() as bar:
        found = make_due(ws, time.time(), held(ws), bar, names)
    # After the progress bar is gone: it would share a line with them.
    for made in found if not args.json else ():
        _told(made)
    if args.json:
        output.emit_json({"lab": ws.lab.name, "made": [_json(m) for m in found]})
    elif not found:
        output.say("No archive is due.")
    return 3 if any(m.error for m in found) else 0


def _told(made: Made) -> None:
    from dacha.core.units import show_size

    if made.error:
        output.note(made.error.message())
        return
    old = f"; {output.plural(len(made.deleted), 'older archive')} deleted" if made.deleted else ""
    what = "" if made.since is None else f", what changed since {_minute(made.since)}"
    output.step(f"guest {made.guest}", f"saved to {made.file}: {show_size(made.length)}{what}{old}")


def _minute(at: float) -> str:
    import time

    return time.strftime("%Y-%m-%d %H:%M", time.localtime(at))


def _json(made: Made) -> dict[str, Any]:
    return {
        "guest": made.guest, "file": str(made.file) if made.file else None, "size_bytes": made.length,
        "deleted": [str(path) for path in made.deleted],
        "error": " / ".join(made.error.lines()) if made.error else None,
    }  # fmt: skip
