"""dacha status."""

from __future__ import annotations

import argparse
import shlex
import time
from typing import TYPE_CHECKING, Any

from dacha.cli import arguments
from dacha.cli.reach.usage import run_usage, usage_json, usage_options
from dacha.cli.terminal import output
from dacha.core.errors import DachaError, UsageError

if TYPE_CHECKING:
    from dacha.engine.workspace import Workspace


# The interval of a watched view (seconds); probing the doors takes a part of it.
EVERY_S = 2.0


def status_arguments(parser: argparse.ArgumentParser) -> None:
    parser.description = (
        "Show every guest, its address and its doors, and whether each door responds now.\n"
        "Exit code 1 if a door of a running guest does not respond, or if a guest is not confined."
    )
    arguments.guests(parser, "only these guests (default: all)")
    parser.add_argument(
        "--watch",
        action="store_true",
        help="update the view until q or Ctrl-C; with --json print an object in a line for each change",
    )
    usage_options(parser)


def run_status(args: argparse.Namespace) -> int:
    from dacha.cli.reach.status_text import print_status
    from dacha.cli.words import lab_or_applied
    from dacha.engine.reach.status import PATIENT_S, gather
    from dacha.engine.workspace import load_or_applied

    if args.since and not args.usage:
        raise UsageError("--since is for --usage", remedy="dacha status --usage --since " + shlex.quote(args.since))
    if args.metrics or (args.usage and not args.json):
        return run_usage(args)
    if args.watch and args.json:
        return _lines(args)
    if args.watch:
        from dacha.cli.terminal.live import watch

        _named(lab_or_applied(args), args.guests)  # report errors before the screen is switched

        seen: Seen = {}

        def draw() -> None:
            output.say(output.paint(time.strftime("%H:%M:%S   q quits"), output.DIM))
            output.say()
            try:
                again = load_or_applied(args.lab)[0]
                only = _named(again, args.guests)
                print_status(again, _with_since(gather(again, only=only), seen), only)
            except DachaError as e:
                output.say(e.message())

        watch(draw, EVERY_S)
        return 0
    ws = lab_or_applied(args)
    only = _named(ws, args.guests)
    status = gather(ws, more_s=PATIENT_S, only=only)
    silent = [d for g in status.guests for d in g.doors if d.silent]
    if args.json:
        output.emit_json(_json(ws, status) | _usage(args, ws))
    else:
        print_status(ws, status, only)
    unsound = status.confinement is not None and not status.confinement.sound
    return 1 if silent or unsound else 0


def _usage(args: argparse.Namespace, ws: Workspace) -> dict[str, Any]:
    """What --usage adds to the answer."""
    if not args.usage:
        return {}
    if args.since:
        from dacha.cli.reach.usage_since import since_json

        return since_json(args, ws)
    return usage_json(ws)


def _lines(args: argparse.Namespace) -> int:
    """One object in each line: the state now, then each time that it has changed, until Ctrl-C."""
    import contextlib

    from dacha.cli.terminal import streams
    from dacha.engine.reach.status import PATIENT_S, gather
    from dacha.engine.workspace import load_or_applied

    before = None
    with contextlib.suppress(KeyboardInterrupt):
        while True:
            ws = load_or_applied(args.lab)[0]
            now = _json(ws, gather(ws, more_s=PATIENT_S, only=_named(ws, args.guests)))
            now |= _usage(args, ws)
            if now != before:
                before = now
                output.emit_line(now)
                streams.flush()
            time.sleep(EVERY_S)
    return 0


def _named(ws: Workspace, names: list[str]) -> set[str] | None:
    """The selected guests; None for all. Raises UsageError for an unknown one."""
    from dacha.engine.lab.named import guest_named

    kept = set(ws.home.guests())
    for name in names:
        if name not in kept:
            guest_named(ws, name)
    return set(names) or None


# Whether a door responded at the last look, and since when (Unix seconds; None: since before the view began), by guest
# and door.
Seen = dict[tuple[str, str], tuple[bool | None, float | None]]


def _with_since(status: Any, seen: Seen) -> Any:
    """The status with the time since when each door is open or not, for those that changed while watched."""
    guests = []
    for g in status.guests:
        doors = []
        for d in g.doors:
            key = (g.name, d.plan.door.name)
            ok, since = seen.get(key, (d.ok, None))
            seen[key] = (d.ok, since if ok == d.ok else time.time())
            begun = seen[key][1]
            now = f"{d.now}, since {time.strftime('%H:%M:%S', time.localtime(begun))}" if begun else d.now
            doors.append(d._replace(now=now))
        guests.append(g._replace(doors=doors))
    return status._replace(guests=guests)


def _json(ws: Workspace, status: Any) -> dict[str, Any]:
    from dacha.cli.words import change_json, here_json
    from dacha.engine.workspace import locate

    return {
        "lab": ws.lab.name,
        "file": str(ws.path),
        "pending": [change_json(c) for c in status.pending],
        "guests": [
            {
                "name": g.name,
                "state": g.seen.state,
                "first_boot": g.first_boot and {"state": g.first_boot.state, "failed_at": list(g.first_boot.failed_at)},
                "since": output.moment(g.seen.since),
                "pid": g.seen.pid,
                "ended": g.ended
                and {"reason": g.ended[0].reason, "at": output.moment(g.ended[1]), "text": g.ended[0].words},
                "addresses": g.addresses,
                "in_file": g.guest is not None,
                "doors": [
                    {
                        "name": d.plan.door.name,
                        "service": d.plan.door.service,
                        "protocol": d.plan.door.protocol,
                        "from": d.plan.door.origin,
                        **output.place_json(d.place),
                        "to": d.plan.door.to.first,
                        "answers": d.ok,
                        "seen": d.now,
                    }
                    for d in g.doors
                ],
            }
            for g in status.guests
        ],
        "loopback_exposed": status.exposed,
        "unserved": status.unserved,
        "confinement": status.confinement
        and {
            "sound": status.confinement.sound,
            "open": status.confinement.open,
            "guests": list(status.confinement.guests),
            "networks": list(status.confinement.networks),
            "missing": list(status.confinement.missing),
            "unfiltered": list(status.confinement.unfiltered),
            "changed": status.confinement.changed,
        },
        "refused": [output.finding_json(ws.path.name, f) for f in locate(ws.path, ws.text, list(status.refused))],
        "low": list(status.low),
        "still_open": [{"guest": guest, "what": what} for guest, what in status.still_open],
        **here_json(ws),
    }
