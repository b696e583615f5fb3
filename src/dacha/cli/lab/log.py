"""dacha log."""

from __future__ import annotations

import argparse
import contextlib
import time
from typing import TYPE_CHECKING, Any

from dacha.cli import arguments
from dacha.cli.arguments import many
from dacha.cli.terminal import output, streams

if TYPE_CHECKING:
    from dacha.core.log.event import Event

# Without --since, so many of the last events are shown.
USUAL = 100


def log_arguments(parser: argparse.ArgumentParser) -> None:
    parser.description = (
        "Show what happened to the lab: what commands changed and who typed them, when guests started and why they\n"
        "ended, and what the caretaker did. With --json, one object in each line."
    )
    arguments.guests(parser, "only events of these guests (default: all)")
    parser.add_argument(
        "--since", metavar="TIME", help='only later events: "2 h", "3 d", 14:30, 2026-11-30 (default: the last 100)'
    )
    many(parser, "--kind", "kinds", "KIND", "only events of this kind, such as ended or changed")
    parser.add_argument("--follow", action="store_true", help="also show new events, until Ctrl-C")


def run_log(args: argparse.Namespace) -> int:
    from dacha.cli.words import lab_or_applied
    from dacha.core.errors import BadValue, UsageError
    from dacha.core.log.event import KINDS
    from dacha.core.spelling import did_you_mean
    from dacha.engine.log import journal
    from dacha.engine.log.ends import note_ends
    from dacha.engine.log.moment import moment

    ws = lab_or_applied(args)
    for kind in args.kinds:
        if kind not in KINDS:
            raise UsageError(
                f"there is no kind of event {kind}", remedy=did_you_mean(kind, KINDS, f"one of: {', '.join(KINDS)}")
            )
    try:
        since = moment(args.since, time.time()) if args.since else None
    except BadValue as e:
        raise UsageError(f"--since: {e.what}", remedy=e.remedy) from None

    def wanted(event: Event) -> bool:
        return (
            (not args.guests or event.guest in args.guests)
            and (not args.kinds or event.kind in args.kinds)
            and (since is None or event.time >= since)
        )

    note_ends(ws.home)
    events = [e for e in journal.read(ws.home) if wanted(e)]
    if args.guests:
        from dacha.engine.power.power import choose

        # A guest that has left the lab is known by its events.
        named = {e.guest for e in events if e.guest}
        choose(sorted({*ws.lab.guests, *ws.home.guests(), *named}), args.guests, everything=False)
    following = journal.follow(ws.home) if args.follow else None
    shown = events if since is not None or args.json else events[-USUAL:]
    if len(shown) < len(events):
        output.say(
            output.paint(f"{output.plural(len(events) - len(shown), 'earlier event')}: --since TIME", output.DIM)
        )
    show = _Shown(as_json=args.json)
    for event in shown:
        show(event)
    if not events and not args.json and not following:
        output.say("No events." if args.guests or args.kinds or args.since else "No events yet.")
    with contextlib.suppress(KeyboardInterrupt):
        for new in following or ():
            if new is None:
                streams.flush()
                note_ends(ws.home)
            elif wanted(new):
                show(new)
    return 0


class _Shown:
    """Prints events: one line each, the date before the first of a day, the origin where another one begins."""

    def __init__(self, *, as_json: bool) -> None:
        self._json = as_json
        self._day = ""
        self._by: Any = None

    def __call__(self, event: Event) -> None:
        if self._json:
            output.emit_line(event_json(event))
            return
        local = time.localtime(event.time)
        if (day := time.strftime("%Y-%m-%d", local)) != self._day:
            self._day = day
            output.say(day)
        bad = event.kind in ("failed", "gave-up") or bool(event.data.get("failed"))
        text, subject = event.text(), event.guest or "lab"
        if event.kind in ("changed", "failed"):
            text = text.removeprefix(f"guest {subject}: ")
        origin = event.by.words() if event.by and event.by != self._by else ""
        self._by = event.by
        line = f"{text}  [{origin}]" if origin else text
        output.hang(f"{time.strftime('%H:%M:%S', local)}  {subject:<12}  ", line, 24, output.BAD if bad else None)


def event_json(event: Event) -> dict[str, Any]:
    """An event for a script."""
    return {
        "time": output.moment(event.time),
        "kind": event.kind,
        "guest": event.guest,
        "by": event.by._asdict() if event.by else None,
        "data": dict(event.data),
        "text": event.text(),
    }
