"""dacha guest check: a running guest's settings against recommended ones."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from dacha.cli import arguments
from dacha.cli.terminal import output

if TYPE_CHECKING:
    from dacha.core.guest_settings import Setting


def check_arguments(parser: argparse.ArgumentParser) -> None:
    parser.description = (
        "Query a running guest, by its agent or a login, for its settings: logins, updates, time, remote\n"
        "desktop, disk. Exit code 0 if all are correct, 1 if not; each incorrect one comes with its remedy."
    )
    arguments.guest(parser, "name")


def run_check(args: argparse.Namespace) -> int:
    from dacha.core.guest_settings import RIGHT, WRONG
    from dacha.engine.console import first_boot
    from dacha.engine.inside.settings import check_guest
    from dacha.engine.workspace import load

    ws = load(args.lab)
    found = check_guest(ws, args.name)
    wrong = [s for s in found.settings if s.verdict == WRONG]
    if args.json:
        output.emit_json({"guest": args.name, "asked": found.how, "right": not wrong,
                          "settings": [_json(s) for s in found.settings]})  # fmt: skip
        return 1 if wrong else 0
    output.say(f"{args.name}, asked {found.how}:")
    if first_boot(ws.home, args.name).state == "running":
        output.say("note: its first boot still runs, and may change these settings")
    output.say()
    width = max((len(s.name) for s in found.settings), default=0)
    for s in found.settings:
        word = {RIGHT: "right", WRONG: "WRONG"}.get(s.verdict, "?")
        shade = {RIGHT: output.GOOD, WRONG: output.BAD}.get(s.verdict, output.DIM)
        end = "" if s.verdict == RIGHT else f"   should be: {s.should}"
        output.say(f"  {output.paint(f'{word:<6}', shade)} {s.name:<{width}}   {s.now}{end}")
        if s.remedy:
            output.say(f"  {'':<{width + 9}} {s.remedy}")
    where = f"run these commands in a shell of {args.name}, as administrator"
    unknown = sum(s.verdict not in (RIGHT, WRONG) for s in found.settings)
    counts = [f"{len(found.settings) - len(wrong) - unknown} of {len(found.settings)} settings correct"]
    counts += [f"{len(wrong)} wrong"] if wrong else []
    counts += [f"{unknown} unknown"] if unknown else []
    output.say("\n" + ", ".join(counts) + (f"; {where}" if wrong else ""))
    return 1 if wrong else 0


def _json(setting: Setting) -> dict[str, str]:
    return {"name": setting.name, "verdict": setting.verdict, "seen": setting.now, "should": setting.should,
            "remedy": setting.remedy}  # fmt: skip
