"""dacha start, stop, restart, pause, resume."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING, Any

from dacha.cli import arguments, cutting
from dacha.cli.lab.apply import apply_and_wait
from dacha.cli.lab.waiting import set_clocks
from dacha.cli.terminal import output

if TYPE_CHECKING:
    from dacha.engine.workspace import Workspace


def _guests(parser: argparse.ArgumentParser) -> None:
    arguments.guests(parser)
    parser.add_argument("--all", action="store_true", help="every guest of the lab")


def start_arguments(parser: argparse.ArgumentParser) -> None:
    parser.description = (
        "Start guests, and create their disks and first-boot data if they do not exist yet. A guest that was saved\n"
        "to disk (dacha pause --save) continues where it was."
    )
    _guests(parser)
    parser.add_argument(
        "--discard-saved",
        action="store_true",
        help="delete the guests' saved memory first: they start from their disks, as after a power cut",
    )
    arguments.waiting(parser)


def _chosen(args: argparse.Namespace) -> tuple[Any, list[str]]:
    """The workspace and the selected guests; running guests that are no longer in the file may be selected, too."""
    from dacha.cli.words import lab_or_applied
    from dacha.engine.power.power import choose

    ws = lab_or_applied(args)
    return ws, choose(dict.fromkeys([*ws.lab.guests, *ws.home.guests()]), args.guests, args.all)


def run_start(args: argparse.Namespace) -> int:
    from dacha.engine.power.power import choose
    from dacha.engine.workspace import load

    ws = load(args.lab)
    names = set(choose(ws.lab.guests, args.guests, args.all))
    cutting.refuse_unapplied(ws, names)
    if args.discard_saved:
        _discard(args, ws, names)
    return apply_and_wait(args, names, "start")


def _discard(args: argparse.Namespace, ws: Workspace, names: set[str]) -> None:
    from dacha.engine.log.journal import note
    from dacha.engine.power import saved, saving

    with ws.home.lock("start", ws.path, lambda holder: output.note(f"waiting for {holder}")):
        for name in sorted(names):
            saving.settle(ws.home, name)
            if saved.discard(ws.home, name):
                note(ws.home, "discarded", name, text="as requested")
                if not args.json:
                    output.step(f"guest {name}", "deleted its saved memory")


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
    from dacha.engine.power import power

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
    from dacha.core.errors import AnswerNo
    from dacha.engine.apply.agreed import lab_error_or_host
    from dacha.engine.check.refused import refused
    from dacha.engine.guest.observe import observe
    from dacha.engine.power.power import choose
    from dacha.engine.workspace import load

    ws = load(args.lab)
    names = choose(ws.lab.guests, args.guests, args.all)
    # Before guests are stopped that could then not be started.
    cutting.refuse_unapplied(ws, names)
    for name in names:
        if ws.home.saved_note(name).exists():
            raise AnswerNo(
                f"{name} is saved to disk: it cannot restart before it continues",
                remedy=f"dacha start {name}, then restart it\nwithout its memory: dacha start {name} --discard-saved",
            )
    found = refused(ws, observe(ws.home, ws.lab.guests), set(names), restarting=True)
    if found.all:
        raise lab_error_or_host(ws, found.all)
    _stop(args, ws, names, on_purpose=False, doing="restart")
    args.wait = "5 min"
    return apply_and_wait(args, set(names), "restart")


def pause_arguments(parser: argparse.ArgumentParser) -> None:
    parser.description = (
        "Suspend guests: their virtual CPUs and clocks stop. Without --save they stay in this host's memory.\n"
        "With --save their memory is written to disk and their processes end: they use nothing but disk space, and\n"
        "dacha start lets them continue where they were, also after a restart of this host."
    )
    _guests(parser)
    parser.add_argument("--save", action="store_true", help="write their memory to disk, and free this host's")


def resume_arguments(parser: argparse.ArgumentParser) -> None:
    parser.description = "Resume paused guests."
    _guests(parser)


def run_pause(args: argparse.Namespace) -> int:
    return _save(args) if args.save else _hold(args, resume=False)


def _save(args: argparse.Namespace) -> int:
    import time

    from dacha.cli.terminal.progress import share_bar
    from dacha.core.errors import DachaError
    from dacha.core.units import show_size
    from dacha.engine.power import saving

    ws, names = _chosen(args)
    done: dict[str, str] = {}
    failed: list[DachaError] = []
    with ws.home.lock("pause", ws.path, lambda holder: output.note(f"waiting for {holder}")), share_bar() as progress:
        for name in names:
            began = time.monotonic()
            try:
                state = saving.save(ws.home, name, lambda share, n=name: progress(f"saving {n}", share))  # type: ignore[misc]
            except DachaError as e:
                failed.append(e)
                continue
            done[name] = f"saved to disk, {show_size(state.size)}: dacha start {name} continues it"
            if not args.json:
                output.step(f"guest {name}", done[name], output.seconds(time.monotonic() - began))
    if args.json:
        output.emit_json({"lab": ws.lab.name, "guests": done})
    for error in failed[1:]:
        output.note(error.message())
    if failed:
        raise failed[0]
    return 0


def run_resume(args: argparse.Namespace) -> int:
    return _hold(args, resume=True)


def _hold(args: argparse.Namespace, *, resume: bool) -> int:
    from dacha.engine.power import power

    ws, names = _chosen(args)
    done = {}
    with ws.home.lock("resume" if resume else "pause", ws.path, lambda holder: output.note(f"waiting for {holder}")):
        for name in names:
            done[name] = power.hold(ws.home, name, resume=resume)
            if not args.json:
                output.step(f"guest {name}", done[name])
    again = [n for n, words in done.items() if words == "resumed" and n in ws.lab.guests]
    set_clocks(ws, again, lambda *step: None if args.json else output.step(*step[:2]), login_s=20.0)
    if args.json:
        output.emit_json({"lab": ws.lab.name, "guests": done})
    return 0
