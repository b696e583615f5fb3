"""dacha snapshot add, list, restore, remove."""

from __future__ import annotations

import argparse
import time
from typing import TYPE_CHECKING, Any

from dacha.cli import arguments
from dacha.cli.commands import Action
from dacha.cli.terminal import output

if TYPE_CHECKING:
    from dacha.engine.workspace import Workspace


def snapshot_arguments(parser: argparse.ArgumentParser) -> None:
    parser.description = (
        "Snapshots: the state of a guest's disks at a moment, with its memory if wanted. Several guests at once have\n"
        "the same moment, so that a lab of servers is restored as one."
    )


def _chosen(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("name", metavar="NAME", help="name of the snapshot")
    arguments.guests(parser)
    parser.add_argument("--all", action="store_true", help="every guest of the lab")


def _add(parser: argparse.ArgumentParser) -> None:
    _chosen(parser)
    parser.add_argument("--about", metavar="TEXT", default="", help="a description")
    parser.add_argument(
        "--memory", action="store_true",
        help="also save the memory of running guests, so that they resume at this point when restored",
    )  # fmt: skip
    parser.add_argument(
        "--no-freeze", action="store_true",
        help="do not let guest agents write everything to the disks first (default: those that respond do)",
    )  # fmt: skip


def _list(parser: argparse.ArgumentParser) -> None:
    arguments.guests(parser, "only these guests (default: all)")


def _restore(parser: argparse.ArgumentParser) -> None:
    parser.description = (
        "Make guests what they were. A guest that runs is powered off first: its present state is lost, unless\n"
        "another snapshot has it. Guests that were running start again. Adapters, doors and keys are what the lab\n"
        "file says now."
    )
    _chosen(parser)
    parser.add_argument("--without-memory", action="store_true", help="restore the disks only, and boot from them")
    parser.add_argument("--no-start", action="store_true", help="leave the guests off")
    parser.add_argument("--yes", action="store_true", help="do not ask before the present state is lost")


def _guests(args: argparse.Namespace) -> tuple[Workspace, list[str]]:
    from dacha.cli.words import lab_or_applied
    from dacha.engine.power.power import choose

    ws = lab_or_applied(args)
    return ws, choose(ws.lab.guests, args.guests, args.all)


def _disks(ws: Workspace, guest: str) -> list[str]:
    """The disks of a snapshot: those of the running process, else those of the lab file that exist."""
    from dacha.engine.disks.disks import attached

    if ws.home.is_running(guest):
        return attached(ws.home, guest)
    there = {name for name, _ in ws.home.disks(guest)}
    return [d.name for d in ws.lab.guests[guest].disks if d.name in there]


def run_add(args: argparse.Namespace) -> int:
    from dacha.cli.terminal.progress import share_bar
    from dacha.core.errors import UsageError
    from dacha.engine.states.settling import settle
    from dacha.engine.states.taking import take

    ws, names = _guests(args)
    if args.all and args.memory:
        names = [n for n in names if ws.home.is_running(n)] or names
    with ws.home.lock("snapshot add", ws.path, lambda holder: output.note(f"waiting for {holder}")):
        for name in names:
            settle(ws.home, name)
        disks = {name: _disks(ws, name) for name in names}
        if args.all and not args.memory:
            disks = {name: found for name, found in disks.items() if found} or disks
        if empty := [n for n, found in disks.items() if not (found or args.memory)]:
            raise UsageError(f"{empty[0]} has no disk: there is nothing to keep", remedy="use --memory for its memory")
        with share_bar() as progress:
            taken = take(
                ws.home, disks, args.name, args.about, with_memory=args.memory, freeze=not args.no_freeze,
                progress=progress,
            )  # fmt: skip
    if args.json:
        output.emit_json({"lab": ws.lab.name, "taken": [_json(t.guest, t.snapshot, None, None) for t in taken]})
        return 0
    for t in taken:
        output.step(f"guest {t.guest}", f"snapshot {args.name} taken{_how(t)}", _paused(t.stopped_s))
    return 0


def _how(taken: Any) -> str:
    """What a snapshot has of a running guest."""
    from dacha.core.units import show_size

    s = taken.snapshot
    if not s.running:
        return ""
    if s.memory:
        return f" with {show_size(s.memory)} of memory"
    return ": its file systems were frozen" if s.frozen else ": as after a power cut, as no guest agent responds"


def _paused(seconds: float | None) -> str:
    return "" if seconds is None else f"stopped for {seconds * 1000:.0f} ms"


def run_list(args: argparse.Namespace) -> int:
    from dacha.cli.words import lab_or_applied
    from dacha.core.units import show_size
    from dacha.engine.power.power import choose
    from dacha.engine.states.listed import listed

    ws = lab_or_applied(args)
    names = choose(ws.lab.guests, args.guests, not args.guests)
    rows = [row for name in names for row in listed(ws.home, name)]
    if args.json:
        found = [_json(r.guest, r.snapshot, r.cost, r.is_now) for r in rows]
        output.emit_json({"lab": ws.lab.name, "snapshots": found})
        return 0
    if not rows:
        output.say(f"No snapshots. Next: dacha snapshot add NAME {names[0] if names else 'GUEST'}")
        return 0
    cells, before = [], ""
    for r in rows:
        s = r.snapshot
        cells.append(
            (
                "" if r.guest == before else r.guest,
                "  " * r.depth + s.name + (" (now)" if r.is_now else ""),
                time.strftime("%Y-%m-%d %H:%M", time.localtime(s.at)),
                "unknown" if r.cost is None else show_size(r.cost),
                "on, memory" if s.memory else "on" if s.running else "off",
                s.about or s.by.rpartition(", ")[2],
            )
        )
        before = r.guest
    output.table(("GUEST", "SNAPSHOT", "TAKEN", "COSTS", "STATE", "ABOUT"), cells)
    return 0


def _json(guest: str, s: Any, cost: int | None, is_now: bool | None) -> dict[str, Any]:
    found = {
        "guest": guest, "name": s.name, "id": s.id, "about": s.about, "at": output.moment(s.at), "by": s.by,
        "parent": s.parent, "disks": list(s.disks), "running": s.running, "frozen": s.frozen,
        "memory_bytes": s.memory,
    }  # fmt: skip
    return found if is_now is None else found | {"cost_bytes": cost, "current": is_now}


def run_restore(args: argparse.Namespace) -> int:
    from dacha.cli.lab.apply import apply_and_wait
    from dacha.engine.states import restoring
    from dacha.engine.states.settling import settle

    ws, names = _having(args)
    with_memory = not args.without_memory
    for name in names:
        restoring.refuse(ws.home, name, args.name, with_memory=with_memory)
    if not args.yes:
        output.note(f"The present state of {', '.join(names)} is lost, unless a snapshot has it.")
        arguments.confirm("Restore the snapshot?", "--yes", "nothing was changed")
    done = []
    with ws.home.lock("snapshot restore", ws.path, lambda holder: output.note(f"waiting for {holder}")):
        for name in names:
            settle(ws.home, name)
        kept = {name: restoring.refuse(ws.home, name, args.name, with_memory=with_memory) for name in names}
        for name in names:
            found = restoring.restore(ws.home, name, kept[name], with_memory=with_memory)
            done.append(found)
            if not args.json:
                left = f"; disks that it does not have are unchanged: {', '.join(found.left)}" if found.left else ""
                output.step(f"guest {name}", f"is as in the snapshot {args.name}{left}")
    starting = {f.guest for f in done if (f.was_running or f.continues) and not args.no_start}
    if args.json:
        output.emit_json({"lab": ws.lab.name, "restored": [_json(f.guest, f.snapshot, None, None) for f in done]})
        return _start_quietly(args, starting)
    if starting:
        args.wait, args.no_wait = "5 min", False
        code = apply_and_wait(args, starting, "snapshot restore")
    else:
        code = 0
    _differences(args, names)
    return code


def _having(args: argparse.Namespace) -> tuple[Workspace, list[str]]:
    """The selected guests; with --all those that have the snapshot."""
    from dacha.engine.states.records import complete

    ws, names = _guests(args)
    if args.all:
        names = [n for n in names if any(k.snapshot.name == args.name for k in complete(ws.home, n))] or names
    return ws, names


def _start_quietly(args: argparse.Namespace, names: set[str]) -> int:
    """Start guests for a script, which has its answer already; failures are messages."""
    from dacha.engine.apply.apply import apply
    from dacha.engine.power.stopped import may_start
    from dacha.engine.workspace import load

    if not names:
        return 0
    ws = load(args.lab)
    with ws.home.lock("snapshot restore", ws.path, lambda holder: None):
        may_start(ws.home, names)
        outcome = apply(ws, lambda subject, text, took: None, only=names)
    for _, error in outcome.failed:
        output.note(error.message())
    return 3 if outcome.failed else 0


def _differences(args: argparse.Namespace, names: list[str]) -> None:
    """What differs now between the lab file and the restored guests."""
    from dacha.engine.apply.pending import pending_changes
    from dacha.engine.guest.observe import observe
    from dacha.engine.workspace import load

    ws = load(args.lab)
    changes = [c for c in pending_changes(ws, observe(ws.home, ws.lab.guests)) if c.guest in names]
    for change in changes:
        output.step(f"guest {change.guest}", f"differs from the lab file: {change}")
    if changes:
        output.say("dacha apply makes them match the lab file again.")


def run_remove(args: argparse.Namespace) -> int:
    from dacha.core.units import show_size
    from dacha.engine.states.settling import settle
    from dacha.engine.states.taking import remove

    ws, names = _having(args)
    removed = []
    with ws.home.lock("snapshot remove", ws.path, lambda holder: output.note(f"waiting for {holder}")):
        for name in names:
            settle(ws.home, name)
            freed = remove(ws.home, name, args.name)
            removed.append({"guest": name, "freed_bytes": freed})
            if not args.json:
                output.step(f"guest {name}", f"snapshot {args.name} removed, {show_size(freed)} freed")
    if args.json:
        output.emit_json({"lab": ws.lab.name, "removed": removed})
    return 0


ACTIONS = (
    Action("add", "take a snapshot of guests", "dacha snapshot add before-upgrade gauge", _add, run_add),
    Action("list", "list snapshots as a tree, with what each costs", "dacha snapshot list gauge", _list, run_list),
    Action(
        "restore", "make guests what they were", "dacha snapshot restore before-upgrade gauge", _restore, run_restore
    ),
    Action(
        "remove",
        "remove a snapshot, and free its space",
        "dacha snapshot remove before-upgrade gauge",
        _chosen,
        run_remove,
    ),
)
