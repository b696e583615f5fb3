"""dacha media insert and eject: the drives of a guest."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from dacha.cli.terminal import output
from dacha.core.errors import AnswerNo, UsageError

if TYPE_CHECKING:
    from dacha.engine.workspace import Workspace

if TYPE_CHECKING:
    from dacha.engine.workspace import Workspace


def run_insert(args: argparse.Namespace) -> int:
    from dacha.core.lab.text.edits import Edit, Set
    from dacha.engine.lab.edit import edit_lab
    from dacha.engine.lab.named import guest_named
    from dacha.engine.media.media_store import Store

    def decide(ws: Workspace) -> list[Edit]:
        guest = guest_named(ws, args.guest)
        Store(ws.lab).need(args.name)
        if args.name in guest.media:
            raise UsageError(
                f"{args.name} is already in {args.guest}", remedy=f"dacha media eject {args.guest} {args.name}"
            )
        return [Set(("guest", args.guest, "medium"), [*guest.media, args.name])]

    return _live(args, edit_lab(args.lab, decide), f"Inserted {args.name} into")


def run_eject(args: argparse.Namespace) -> int:
    from dacha.core.lab.text.edits import Edit, Remove, Set
    from dacha.engine.lab.edit import edit_lab
    from dacha.engine.lab.named import guest_named
    from dacha.engine.workspace import load

    ws = load(args.lab)
    guest = guest_named(ws, args.guest)
    if not guest.media:
        raise AnswerNo(
            f"no medium is in {args.guest}", why="the medium of an installation is removed automatically at its end"
        )
    name = args.name or guest.media[-1]
    if name not in guest.media:
        raise UsageError(f"{name} is not in {args.guest}", remedy=f"choose one of: {', '.join(guest.media)}")
    _take_out(args, ws, name)

    def decide(ws: Workspace) -> list[Edit]:
        left = [m for m in ws.lab.guests[args.guest].media if m != name]
        path = ("guest", args.guest, "medium")
        return [Set(path, left) if left else Remove(path)]

    return _live(args, edit_lab(args.lab, decide), f"Ejected {name} from")


def _take_out(args: argparse.Namespace, ws: Workspace, name: str) -> None:
    """Eject the medium from the running guest first: if its tray is locked, the file is not changed."""
    from dacha.engine.media.media import medium_path
    from dacha.hypervisor.command_line import QMP
    from dacha.hypervisor.live import removable
    from dacha.hypervisor.monitor.qmp import Qmp

    if not ws.home.is_running(args.guest):
        return
    path = str(medium_path(ws, name))
    with ws.home.lock("media", ws.path):
        # Read under the lock: the record that is written back is the present one.
        record = ws.home.read(args.guest)
        drives = record.machine["drives"] if record.machine else []
        if path in drives:
            with Qmp(ws.home.run(args.guest) / QMP) as qmp:
                removable.change(qmp, drives.index(path), None, force=args.force)
            drives[drives.index(path)] = None
            ws.home.write(args.guest, record)


def _live(args: argparse.Namespace, ws: Workspace, done: str) -> int:
    """Apply a changed drive to the running guest, and print the result: what was `done` and since when."""
    from dacha.core.apply.changes import ChangeMachine, ChangeMedium
    from dacha.engine.apply.apply import apply

    state = "from its next start"
    if ws.home.is_running(args.guest):
        with ws.home.lock("media", ws.path, lambda holder: output.note(f"waiting for {holder}")):
            outcome = apply(ws, lambda subject, text, took: None, only={args.guest})
        for change, error in outcome.failed:
            if isinstance(change, ChangeMedium):
                raise error
        waits = any(isinstance(c, ChangeMachine) and c.part == "drives" for c in outcome.waiting)
        state = "from its next start: it has no free drive" if waits else "now"
    if args.json:
        output.emit_json({"guest": args.guest, "media": list(ws.lab.guests[args.guest].media), "when": state})
    else:
        output.say(f"{done} {args.guest}: {state}.")
    return 0
