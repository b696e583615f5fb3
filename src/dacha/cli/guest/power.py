"""dacha start, stop, restart, pause, resume."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING, Any

from dacha.cli import arguments, cutting
from dacha.cli.lab.apply import apply_and_wait
from dacha.cli.terminal import output

if TYPE_CHECKING:
    from dacha.engine.workspace import Workspace


def _guests(parser: argparse.ArgumentParser) -> None:
    arguments.guests(parser)
    parser.add_argument("--all", action="store_true", help="every guest of the lab")


def start_arguments(parser: argparse.ArgumentParser) -> None:
    parser.description = "Start guests, and create their disks and first-boot data if they do not exist yet."
    _guests(parser)
    arguments.waiting(parser)


def _chosen(args: argparse.Namespace) -> tuple[Any, list[str]]:
    """The workspace and the selected guests; running guests that are no longer in the file may be selected, too."""
    from dacha.cli.words import lab_or_applied
    from dacha.engine.guest.power import choose

    ws = lab_or_applied(args)
    return ws, choose(dict.fromkeys([*ws.lab.guests, *ws.home.guests()]), args.guests, args.all)


def run_start(args: argparse.Namespace) -> int:
    from dacha.engine.guest.power import choose
    from dacha.engine.workspace import load

    ws = load(args.lab)
    names = set(choose(ws.lab.guests, args.guests, args.all))
    cutting.refuse_unapplied(ws, names)
    return apply_and_wait(args, names, "start")


def _stop_options(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--wait", metavar="TIME", help="time to wait (default: the guest's stop-after, 60 s)")
    parser.add_argument(
        "--force", action="store_true", help="power off guests that do not stop in time: unwritten data is lost"
    )


def stop_arguments(parser: argparse.ArgumentParser) -> None:
    parser.description = (
        "Press guests' power buttons and wait until they are off. With --force, power off those that are still on\n"
        "after the time; --force --wait 0s does so at once. A guest whose kernel panicked is not waited for."
    )
    _guests(parser)
    _stop_options(parser)


def run_stop(args: argparse.Namespace) -> int:
    ws, names = _chosen(args)
    stopped = _stop(args, ws, names, on_purpose=True)
    if args.json:
        output.emit_json({"lab": ws.lab.name, "stopped": stopped})
    return 0


def _stop(
    args: argparse.Namespace, ws: Workspace, names: list[str], *, on_purpose: bool, doing: str = "stop"
) -> list[str]:
    from dacha.engine.guest import power

    limits = [ws.lab.guests[n].stop_after_s for n in names if n in ws.lab.guests]
    wait_s = arguments.wait_time(args.wait) if args.wait else max(limits, default=60.0)
    stopped: list[str] = []

    def report(subject: str, text: str, took: float) -> None:
        stopped.append(subject.removeprefix("guest "))
        if not args.json:
            output.step(subject, text, output.seconds(took))

    with ws.home.lock(doing, ws.path, lambda holder: output.note(f"waiting for {holder}")):
        if not on_purpose:
            power.refuse_unwritable(ws.home, names)
        power.stop(ws.home, names, wait_s=wait_s, force=args.force, on_purpose=on_purpose, report=report)
    return stopped


def restart_arguments(parser: argparse.ArgumentParser) -> None:
    parser.description = "Stop guests and start them again; pending changes take effect."
    _guests(parser)
    _stop_options(parser)
    parser.add_argument("--no-wait", action="store_true", help="do not wait until the doors answer")


def run_restart(args: argparse.Namespace) -> int:
    from dacha.engine.apply.apply import lab_error_or_host
    from dacha.engine.check.refused import refused
    from dacha.engine.guest.observe import observe
    from dacha.engine.guest.power import choose
    from dacha.engine.workspace import load

    ws = load(args.lab)
    names = choose(ws.lab.guests, args.guests, args.all)
    # Before guests are stopped that could then not be started.
    cutting.refuse_unapplied(ws, names)
    found = refused(ws, observe(ws.home, ws.lab.guests), set(names), restarting=True)
    if found.all:
        raise lab_error_or_host(ws, found.all)
    _stop(args, ws, names, on_purpose=False, doing="restart")
    args.wait = "5 min"
    return apply_and_wait(args, set(names), "restart")


def pause_arguments(parser: argparse.ArgumentParser) -> None:
    parser.description = "Suspend guests: memory is kept, their virtual CPUs and clocks stop."
    _guests(parser)


def resume_arguments(parser: argparse.ArgumentParser) -> None:
    parser.description = "Resume paused guests."
    _guests(parser)


def run_pause(args: argparse.Namespace) -> int:
    return _hold(args, resume=False)


def run_resume(args: argparse.Namespace) -> int:
    return _hold(args, resume=True)


def _hold(args: argparse.Namespace, *, resume: bool) -> int:
    from dacha.engine.guest import power

    ws, names = _chosen(args)
    done = {}
    with ws.home.lock("resume" if resume else "pause", ws.path, lambda holder: output.note(f"waiting for {holder}")):
        for name in names:
            done[name] = power.hold(ws.home, name, resume=resume)
            if not args.json:
                output.step(f"guest {name}", done[name])
    if args.json:
        output.emit_json({"lab": ws.lab.name, "guests": done})
    return 0
