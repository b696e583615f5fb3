"""dacha guest update: count or install the pending updates of guests, some at a time."""

from __future__ import annotations

import argparse
import shlex
from typing import TYPE_CHECKING

from dacha.cli import arguments
from dacha.cli.terminal import output
from dacha.core.errors import UsageError

if TYPE_CHECKING:
    from dacha.core.inside.updates import Updates
    from dacha.engine.inside.everywhere import Answer

NAMES_SHOWN = 6


def update_arguments(parser: argparse.ArgumentParser) -> None:
    parser.description = (
        "Install the pending updates of guests that are on, by their own package manager (apt, dnf, apk, pkg).\n"
        "It runs by SSH with sudo, or by the guest agent. A restart that is needed is reported, not done."
    )
    arguments.guests(parser, "guests to update")
    parser.add_argument("--all", action="store_true", help="every guest that is on")
    parser.add_argument("--check", action="store_true", help="only count them; nothing is installed")
    parser.add_argument("--at-once", metavar="N", type=int, default=4, help="guests at a time (default: 4)")


def run_update(args: argparse.Namespace) -> int:
    """Exit code 1 if a guest could not be asked, or its update failed."""
    from dacha.cli.words import lab_or_applied
    from dacha.core.inside.updates import read_answers, script
    from dacha.engine.inside.everywhere import run_everywhere
    from dacha.engine.power.power import choose

    if args.at_once < 1:
        raise UsageError("--at-once must be 1 or more", remedy="leave it out: 4 guests at a time")
    ws = lab_or_applied(args)
    names = choose(ws.lab.guests, args.guests, args.all)
    command = [shlex.join(["sh", "-c", script(install=not args.check)])]
    found: dict[str, tuple[Answer, Updates | None]] = {}

    def told(answer: Answer) -> None:
        found[answer.guest] = (answer, read_answers(answer.out))
        if not args.json:
            _show(answer, found[answer.guest][1], args.check)

    run_everywhere(ws, command, user=None, by=None, at_once=args.at_once, told=told, names=names)
    off = [name for name in names if name not in found]
    failed = [name for name, (_, updates) in found.items() if updates is None or updates.failed or updates.denied]
    if args.json:
        rows = [_json(name, *found[name], args.check) for name in names if name in found]
        rows += [_json(name, None, None, args.check) for name in off]
        output.emit_json({"lab": ws.lab.name, "guests": rows})
    elif off:
        output.say(f"off, not asked: {', '.join(off)}")
    return 1 if failed else 0


def why_not(answer: Answer | None, updates: Updates | None) -> str:
    """Why a guest's updates are unknown or failed; "" if they are not."""
    if answer is None:
        return "off"
    if updates is None:
        return answer.why or f"the command ended with exit code {answer.code}"
    if updates.denied:
        return "the login user does not become root without a password"
    return updates.failed or ("" if updates.manager else "no known package manager")


def _show(answer: Answer, updates: Updates | None, check: bool) -> None:
    why = why_not(answer, updates)
    if updates is None or why:
        output.step(f"guest {answer.guest}", f"not updated: {why}" if not check else f"unknown: {why}")
        return
    count, urgent = len(updates.pending), len(updates.security)
    words = output.plural(count, "update") + (f", {urgent} for security" if urgent else "")
    if not count:
        words = "no updates pending"
    elif check:
        names = ", ".join(updates.pending[:NAMES_SHOWN]) + (" …" if count > NAMES_SHOWN else "")
        words += f" pending: {names}"
    else:
        words += f" installed, {len(updates.left)} held back" if updates.left else " installed"
    restart = f"; restart needed for its {' and '.join(updates.restart)}: dacha restart {answer.guest}"
    output.step(f"guest {answer.guest}", words + (restart if updates.restart else ""), output.seconds(answer.took_s))


def _json(name: str, answer: Answer | None, updates: Updates | None, check: bool) -> dict[str, object]:
    return {
        "guest": name,
        "manager": updates.manager if updates else None,
        "pending": list(updates.left if not check else updates.pending) if updates else [],
        "security": list(updates.security) if updates else [],
        "installed": [n for n in updates.pending if n not in updates.left] if updates and not check else [],
        "restart": list(updates.restart) if updates else [],
        "why": why_not(answer, updates),
    }
