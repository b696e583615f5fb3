"""dacha apply, and its parts shared with start and restart."""

from __future__ import annotations

import argparse
import time
from typing import TYPE_CHECKING, Any

from dacha.cli import arguments, cutting
from dacha.cli.lab.lab import as_of
from dacha.cli.lab.waiting import await_guests, set_clocks, wait_for_doors, wait_for_first_boots
from dacha.cli.terminal import output

if TYPE_CHECKING:
    from dacha.engine.workspace import Workspace


def apply_arguments(parser: argparse.ArgumentParser) -> None:
    parser.description = (
        "Make this host match the lab. Guests left off by dacha stop stay off; changes that a running\n"
        "guest only accepts at its next start are reported, not forced."
    )
    arguments.waiting(parser)
    parser.add_argument(
        "--open-firewall", action="store_true",
        help="allow the lab's traffic in this host's own firewall, by a narrow rule for each door; recorded, and "
             "removed with the door",
    )  # fmt: skip
    as_of(parser, "first write the lab file as it was applied then; its present text is kept, too")
    cutting.option(parser)
    parser.add_argument(
        "--confirm",
        action="store_true",
        help="confirm a bridge that took over this host's address; else it is rolled back",
    )


def run_apply(args: argparse.Namespace) -> int:
    if args.confirm:
        from dacha.engine.network import rollback
        from dacha.engine.workspace import load

        move = rollback.confirm(load(args.lab).home)
        if args.json:
            output.emit_json({"confirmed": move.bridge, "adapter": move.adapter})
        else:
            output.say(f"{move.bridge} is kept, over {move.adapter}.")
        return 0
    if args.as_of:
        from dacha.engine.log.versions import put_back

        version = put_back(args.lab, args.as_of)
        output.note(f"note: the lab file is as it was applied at {version.shown()}")
    if args.open_firewall:
        from dacha.core.lab.text.edits import Set
        from dacha.engine.lab.edit import edit_lab

        edit_lab(args.lab, lambda ws: [] if ws.lab.open_firewall else [Set(("lab", "open-firewall"), True)])
    cutting.offer_kept(args)
    cutting.ask_first(args)
    return apply_and_wait(args, None)


def apply_and_wait(args: argparse.Namespace, only: set[str] | None, doing: str = "apply") -> int:
    """Apply, report each step, wait for the doors, and print how to connect: for apply, start and restart."""
    from dacha.cli.terminal.progress import share_bar
    from dacha.core.apply.changes import StartGuest
    from dacha.engine.apply.apply import apply
    from dacha.engine.check.host import accelerator_findings
    from dacha.engine.news import is_news
    from dacha.engine.power.stopped import may_start
    from dacha.engine.reach.opening import coming_doors, opened_doors
    from dacha.engine.workspace import load

    wait_s = arguments.wait_time(args.wait)
    ws = load(args.lab)
    report = (
        (lambda subject, text, took: None)
        if args.json
        else (lambda subject, text, took: output.step(subject, text, output.seconds(took)))
    )
    with ws.home.lock(doing, ws.path, lambda holder: output.note(f"waiting for {holder}")):
        ws = load(args.lab)  # again, now under the lock
        if only is not None:
            may_start(ws.home, only & set(ws.lab.guests))
        with share_bar() as progress:
            outcome = apply(
                ws, report, only=only, progress=progress, ready=None if args.no_wait else await_guests(report)
            )
        if any(isinstance(c, StartGuest) for c in outcome.done) and not args.json:
            # Once, until the reason changes.
            for finding in accelerator_findings(ws):
                if is_news(ws.home, "emulated", finding.what):
                    output.step("this host", finding.what)
    ws = load(args.lab)
    new = opened_doors(ws, outcome.done, outcome.waiting)
    until, closed = time.monotonic() + wait_s, []
    if not args.no_wait:
        # If an earlier command was interrupted, its doors may not be open yet: wait for them if there is nothing else
        # to wait for.
        coming = coming_doors(ws, only, new)
        if not new:
            new, coming = coming, []
        closed = wait_for_doors(ws, new, wait_s, quiet=args.json)
        if coming and not args.json:
            named = ", ".join(f"{d.door.guest} {d.door.name}" for d in coming)
            output.note(f"not up yet, as their guests have just started: {named}")
    unready = [] if args.no_wait else wait_for_first_boots(ws, outcome, until, quiet=args.json)
    if continued := [c.guest for c in outcome.done if isinstance(c, StartGuest) and c.saved]:
        set_clocks(ws, continued, report, login_s=2.0 if args.no_wait else 60.0)
    _change_inside(ws, outcome, report, only, waited=not args.no_wait, quiet=args.json)
    if args.json:
        output.emit_json(_json(ws, outcome, closed) | {"first_boot_failed": unready})
    else:
        _say_waiting(ws, outcome, only)
        _say_usb(ws, only)
        _finish(ws, outcome, new, closed)
    for _change, error in outcome.failed:
        output.note(error.message())
    return 3 if outcome.failed else 1 if closed or unready else 0


def _change_inside(
    ws: Workspace, outcome: Any, report: Any, only: set[str] | None, *, waited: bool, quiet: bool
) -> None:
    """What changes inside guests now that they respond: their setups; keys that changed while a guest was off; keys of
    accounts that are new in them. Guests that were only just started, and not waited for, are left out."""
    from dacha.cli.terminal.progress import meanwhile, waiting_line
    from dacha.core.apply.changes import StartGuest
    from dacha.engine.inside.keys import change_keys, waiting_keys
    from dacha.engine.inside.setup import change_inside, waiting_inside

    started = [c.guest for c in outcome.done if isinstance(c, StartGuest)]
    unfit = {c.guest for c, _ in outcome.failed}
    names = [n for n in ws.lab.guests if (only is None or n in only) and n not in unfit]
    changes = waiting_inside(ws, names if waited else [n for n in names if n not in started])
    if not changes and not (waited and waiting_keys(ws, started)):
        return
    with ws.home.lock("apply", ws.path, lambda holder: output.note(f"waiting for {holder}")):
        words = "; ".join(f"guest {c.guest}: {c}" for c in changes)
        with waiting_line(quiet=quiet) as line:
            made = meanwhile(lambda: list(change_inside(ws, changes)), lambda: line.remind(words))
        for change, error, took in made:
            _note(ws, outcome, report, change, error, took)
        changed = [c.guest for c in changes]
        for keys, error, took in change_keys(ws, waiting_keys(ws, [*(started if waited else []), *changed])):
            _note(ws, outcome, report, keys, error, took)


def _note(ws: Workspace, outcome: Any, report: Any, change: Any, error: Any, took: float) -> None:
    from dacha.core.apply.changes import subject
    from dacha.engine.log.changes import note_done, note_failed

    if error:
        outcome.failed.append((change, error))
        note_failed(ws.home, change, error)
    else:
        outcome.done.append(change)
        note_done(ws.home, change)
        report(subject(change), change.done(), took)


def _json(ws: Workspace, outcome: Any, closed: list[tuple[Any, str]]) -> dict[str, Any]:
    from dacha.cli.words import change_json
    from dacha.engine.router import mappings

    return {
        "lab": ws.lab.name,
        "done": [change_json(c) for c in outcome.done],
        "waiting": [change_json(c) for c in outcome.waiting],
        "failed": [change_json(c) | {"error": e.what, "why": e.why, "remedy": e.remedy} for c, e in outcome.failed],
        "outside": [way._asdict() for way in mappings.ways(ws)] if ws.lab.from_outside else [],
        "not_answering": [{"guest": d.door.guest, "door": d.door.name, "seen": v} for d, v in closed],
    }


def _say_waiting(ws: Workspace, outcome: Any, only: set[str] | None) -> None:
    """Changes that wait for the next start of a running guest, and guests that were left off."""
    from dacha.cli.words import waiting_words

    for c in outcome.waiting:
        output.step(f"guest {c.guest}", str(c), "at next start")
    if outcome.waiting:
        output.say(waiting_words(outcome.waiting))
    for guest in ws.lab.guests.values():
        if (only is None or guest.name in only) and ws.home.read(guest.name).stopped_on_purpose:
            if ws.home.is_running(guest.name):
                # It was asked to stop, and has not done so yet.
                what = (
                    f"is still on, although it was asked to stop: dacha stop {guest.name} --force, or dacha "
                    f"start {guest.name}"
                )
                output.step(f"guest {guest.name}", what)
                continue
            saved = ws.home.saved_note(guest.name).exists()
            why = "its memory is saved to disk" if saved else "it was stopped by command"
            output.step(f"guest {guest.name}", f"left off, as {why}: dacha start {guest.name}")


def _say_usb(ws: Workspace, only: set[str] | None) -> None:
    """USB devices that running guests should have and do not."""
    if not any(g.usb for g in ws.lab.guests.values()):
        return
    from dacha.engine.guest.usb import findings

    for found in findings(ws):
        name = str(found.path[1])
        if (only is None or name in only) and ws.home.is_running(name):
            output.note(f"warning: {found.subject}: {found.what}\n  {found.remedy}")


def _finish(ws: Workspace, outcome: Any, new: list[Any], closed: list[tuple[Any, str]]) -> None:
    from dacha.cli.lab.ways_in import show_ways_in
    from dacha.cli.words import closed_here
    from dacha.core.apply.changes import AskRouter, MakeLink

    if any(isinstance(c, MakeLink) for c in outcome.done):
        from dacha.engine.network import rollback

        if move := rollback.waiting(ws.home):
            left = max(0, round(move.until - time.time()))
            output.say(
                f"This host's addresses are on {move.bridge} now. Confirm within {left} s, or this is rolled "
                "back:\n  dacha apply --confirm"
            )
    if not outcome.done and not outcome.waiting and not outcome.failed and not new:
        output.say(f"{ws.lab.name}: nothing to do, everything applied")
        return
    for door, seen in closed:
        output.note(
            f"door {door.door.guest} {door.door.name} does not respond: {seen}\n"
            f"  why: dacha trace {door.door.guest} {door.door.name}"
        )
    if away := closed_here(ws):
        output.say(f"\nDoors {away}")
    show_ways_in(ws, new, outside=any(isinstance(c, AskRouter) and c.opened for c in outcome.done))
