"""dacha connect --all: one command in every guest, with each guest's output and exit code."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from dacha.cli.terminal import output
from dacha.core.errors import UsageError

if TYPE_CHECKING:
    from dacha.engine.inside.everywhere import Answer
    from dacha.engine.workspace import Workspace


def run_in_all(args: argparse.Namespace, ws: Workspace) -> int:
    """Run the command in all guests that are on; exit code 1 if it failed in one, or could not be run there."""
    from dacha.engine.inside.everywhere import run_everywhere

    if not args.command:
        raise UsageError("--all requires a command", remedy="dacha connect --all -- COMMAND")
    for option in ("copy", "desktop", "through", "show"):
        if getattr(args, option):
            raise UsageError(f"--{option} is for one guest, not for --all", remedy="see: dacha connect --help")
    if args.by == "console":
        raise UsageError("a console runs no commands", remedy="use --by ssh or --by agent")
    if args.at_once < 1:
        raise UsageError("--at-once must be 1 or more", remedy="leave it out: 8 guests at a time")
    tell = (lambda answer: None) if args.json else _show
    answers = run_everywhere(ws, args.command, user=args.user, by=args.by, at_once=args.at_once, told=tell)
    off = [name for name in ws.lab.guests if name not in {a.guest for a in answers}]
    bad = [a for a in answers if a.code != 0]
    if args.json:
        rows = [{"guest": a.guest, "by": a.by, "exit_code": a.code, "out": a.out, "why": a.why} for a in answers]
        rows += [{"guest": name, "by": None, "exit_code": None, "out": None, "why": "off"} for name in off]
        output.emit_json({"command": args.command, "guests": rows})
        return 1 if bad else 0
    if not answers:
        output.say("No guest is on.")
        return 0
    output.say()
    count = f"{len(answers) - len(bad)} of {output.plural(len(answers), 'guest')}: exit code 0"
    output.say(count + (f"; failed: {', '.join(a.guest for a in bad)}" if bad else ""))
    if off:
        output.say(f"off, not run there: {', '.join(off)}")
    return 1 if bad else 0


def _show(answer: Answer) -> None:
    """One guest's result: its name and exit code, then its output, indented."""
    from dacha.core.harmless import harmless_lines

    state = "not run" if not answer.by else f"exit code {answer.code}" if answer.code is not None else "no exit code"
    why = f": {answer.why}" if answer.why else ""
    by = ", by its guest agent" if answer.by == "agent" else ""
    took = f", {answer.took_s:.1f} s" if answer.by else ""
    output.say(output.paint(f"{answer.guest}: {state}{by}{took}{why}", output.STRONG))
    for line in harmless_lines(answer.out.replace("\r\n", "\n")).rstrip("\n").split("\n") if answer.out else ():
        output.say(f"  {line}".rstrip())
