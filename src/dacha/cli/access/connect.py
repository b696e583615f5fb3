"""dacha connect."""

from __future__ import annotations

import argparse
import os
import subprocess
import sys
from pathlib import Path
from typing import TYPE_CHECKING

from dacha.cli import arguments
from dacha.cli.terminal import output
from dacha.cli.terminal.streams import pass_on
from dacha.core.errors import AnswerNo, DachaError, UsageError

if TYPE_CHECKING:
    from dacha.engine.workspace import Workspace

WAYS = ("ssh", "agent", "console")


def connect_arguments(parser: argparse.ArgumentParser) -> None:
    parser.description = (
        "Enter a guest by SSH through its door, run a command in it, or copy files. The guest's key is already known;\n"
        "any other key is refused. Uses the system's OpenSSH. Without an ssh door: by\n"
        "remote desktop, with a client on this machine; else by SSH through another guest of its network;\n"
        "else through the hypervisor: a command by the guest agent, a terminal at the console."
    )
    arguments.guest(parser, optional=True, what="name of the guest, unless --all")
    parser.add_argument(
        "command", metavar="-- COMMAND", nargs="*", help="command to run in the guest instead of a shell"
    )
    parser.add_argument("--user", metavar="USER", help="log in as this user instead of the lab file's")
    parser.add_argument(
        "--copy", metavar=("FROM", "TO"), nargs=2,
        help="copy a file or a folder; paths in the guest begin with a colon: notes.txt :notes.txt",
    )  # fmt: skip
    parser.add_argument(
        "--resume", action="store_true", help="with --copy: resume an interrupted copy of the same files"
    )
    parser.add_argument("--desktop", action="store_true", help="use remote desktop, even if there is an ssh door")
    parser.add_argument(
        "--by", choices=WAYS,
        help="use only this way: ssh; or, without the network, agent (runs a command as root) or console",
    )  # fmt: skip
    parser.add_argument("--through", metavar="GUEST", help="by SSH through another guest of its network")
    parser.add_argument("--show", action="store_true", help="print the command instead of running it")
    parser.add_argument("--all", action="store_true", help="run the command in every guest that is on")
    parser.add_argument("--at-once", metavar="N", type=int, default=8, help="with --all: guests at a time (default: 8)")


def run_connect(args: argparse.Namespace) -> int:
    from dacha.cli.words import lab_or_applied

    ws = lab_or_applied(args)
    if args.all:
        from dacha.cli.access.everywhere import run_in_all

        if args.guest:
            raise UsageError(
                "--all stands for every guest", remedy="leave the name out: dacha connect --all -- COMMAND"
            )
        return run_in_all(args, ws)
    if not args.guest:
        raise UsageError("no guest was named", remedy="dacha connect GUEST, or --all -- COMMAND")
    if args.resume and not args.copy:
        raise UsageError("--resume requires --copy", remedy="see: dacha connect --help")
    if args.copy:
        return _copy(args, ws)
    if args.by in ("agent", "console") and (args.user or args.through or args.desktop or args.show or args.json):
        why = "it uses the hypervisor: no client is started, and there is no login"
        raise UsageError(f"--by {args.by} cannot be combined with this option", why=why)
    if args.by == "agent":
        return _by_agent(args, ws)
    if args.by == "console":
        return _by_console(args)
    argv = ([] if args.through or args.by == "ssh" else _desktop(args, ws)) or _by_ssh(args, ws)
    if not argv:
        return _by_agent(args, ws) if args.command else _by_console(args)
    if args.show or (args.json and not args.command):
        import shlex

        output.emit_json({"command": argv}) if args.json else output.say(shlex.join(argv))
        return 0
    if args.json:
        return _answered(argv)
    _warn_of_missing_rules(ws)
    sys.stdout.flush()
    if args.through or "ssh" not in Path(argv[0]).name:
        os.execv(argv[0], argv)
    return _run_ssh(args, argv)


def _answered(argv: list[str]) -> int:
    """Run a command in the guest, and return its exit code and output as JSON."""
    done = subprocess.run([argv[0], "-o", "BatchMode=yes", *argv[1:]], capture_output=True, check=False)
    out, err = (text.decode("utf-8", "replace") for text in (done.stdout, done.stderr))
    output.emit_json({"command": argv, "exit_code": done.returncode, "out": out, "err": err})
    return done.returncode


def _run_ssh(args: argparse.Namespace, argv: list[str]) -> int:
    """Run the client. If it fails itself, name the broken hop."""
    import signal

    from dacha.engine.inside.run import NO_LOGIN

    # The terminal's signals, including Ctrl-C, are the client's; a signal to this command terminates the client.
    with subprocess.Popen(argv) as client:
        signal.signal(signal.SIGINT, signal.SIG_IGN)
        for end in (signal.SIGTERM, signal.SIGHUP):
            signal.signal(end, lambda number, frame: client.send_signal(number))
        code = client.wait()
    for number in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):
        signal.signal(number, signal.SIG_DFL)
    if code == NO_LOGIN:
        _name_the_hop(args)
    return code if code >= 0 else 128 - code


def _name_the_hop(args: argparse.Namespace) -> None:
    """The broken hop of this door, as trace reports it, in a line."""
    from dacha.core.trace.judge import broken, judge
    from dacha.core.trace.way import SHOWN
    from dacha.engine.trace.asking import Asked
    from dacha.engine.trace.gather import gather
    from dacha.engine.workspace import load

    try:
        ws = load(args.lab)
        door = next(d for d in ws.lab.guests[args.guest].doors if d.service == "ssh")
        asked = Asked(ws.plan_without_host.doors[args.guest, door.name], "host", None, user=args.user)
        stop = broken(judge(gather(ws, asked)))
    except (DachaError, KeyError, StopIteration):
        return  # the client's message is all that is known
    if stop is None:
        return  # the command itself may have exited with this code
    means = f": {stop.means}" if stop.means else ""
    output.note(f"{SHOWN[stop.name]}: {stop.seen}{means}")
    output.note(f"  all hops, and the remedy: dacha trace {args.guest} {door.name}")


def _warn_of_missing_rules(ws: Workspace) -> None:
    """Without the lab's firewall rules the client would only report a timeout."""
    if not any(n.managed for n in ws.lab.networks.values()):
        return
    from dacha.core.network.confinement import REMEDY
    from dacha.engine.network import confined

    found = confined.look(ws)
    if found is not None and found.missing:
        output.note(f"warning: {found.what()}\n  {found.means()}\n  {REMEDY}")


def _by_ssh(args: argparse.Namespace, ws: Workspace) -> list[str]:
    """The OpenSSH command, through another guest if there is no ssh door; empty if only the hypervisor remains, with a
    note."""
    from dacha.engine.inside.ssh import ssh_command
    from dacha.engine.inside.through import through_command, wait_to_boot
    from dacha.engine.lab.named import guest_named

    terminal = sys.stdin.isatty() and not args.command
    if not args.through and (args.by == "ssh" or any(d.service == "ssh" for d in guest_named(ws, args.guest).doors)):
        return ssh_command(ws, args.guest, args.command, user=args.user, terminal=terminal)
    try:
        way = through_command(ws, args.guest, args.command, by=args.through, user=args.user, terminal=terminal)
    except DachaError as other:
        if args.through:
            raise
        return _without_network(args, ws, other)
    if not args.through:
        output.note(f"{args.guest} has no ssh door; connecting through {way.between}.")
    if not args.show and not args.json:
        from dacha.cli.terminal.progress import waiting_line

        with waiting_line() as line:
            told = f"waiting for the SSH server of {args.guest}"
            wait_to_boot(ws, args.guest, way, lambda: line.show(told) if line.due() else None)
    return way.argv


def _without_network(args: argparse.Namespace, ws: Workspace, other: DachaError) -> list[str]:
    """Nothing if the hypervisor provides access, with a note. Else raises the error about the missing SSH door."""
    from dacha.engine.inside.by_agent import agent_answers
    from dacha.engine.inside.ssh import ssh_command

    if not args.user and not args.show and not args.json:
        if args.command and agent_answers(ws, args.guest):
            output.note(f"{args.guest} has no ssh door, and {other.what}; using its guest agent.")
            return []
        if not args.command and sys.stdin.isatty() and agent_answers(ws, args.guest) is not None:
            output.note(f"{args.guest} has no ssh door, and {other.what}; using its console.")
            return []
    return ssh_command(ws, args.guest, args.command, user=args.user, terminal=False)


def _by_agent(args: argparse.Namespace, ws: Workspace) -> int:
    from dacha.engine.inside.by_agent import run_by_agent

    done = run_by_agent(ws, args.guest, args.command)
    pass_on(done.out, sys.stdout)
    pass_on(done.err, sys.stderr)
    return done.code if done.code is not None else 1


def _by_console(args: argparse.Namespace) -> int:
    from dacha.cli.access.console import run_console

    if args.command:
        remedy = f"dacha connect {args.guest} --by agent -- COMMAND"
        raise UsageError("a console is interactive: it runs no commands", remedy=remedy)
    args.record = args.follow = False
    return run_console(args)


def _desktop(args: argparse.Namespace, ws: Workspace) -> list[str]:
    """The remote desktop client's command, if that is the way to use; empty for SSH."""
    from dacha.engine.inside.desktop import desktop_command
    from dacha.engine.lab.named import guest_named

    services = [d.service for d in guest_named(ws, args.guest).doors]
    if not args.desktop and ("ssh" in services or "rdp" not in services or args.command):
        return []
    if args.command:
        raise UsageError("a command is run over SSH", remedy=f"dacha door add {args.guest} ssh --from host")
    return desktop_command(ws, args.guest, user=args.user)


def _copy(args: argparse.Namespace, ws: Workspace) -> int:
    from dacha.engine.inside.copy import copy_command

    if args.command or args.desktop:
        raise UsageError("--copy only copies files", remedy="see: dacha connect --help")
    made = copy_command(ws, args.guest, args.copy, user=args.user, progress=sys.stdout.isatty(), resume=args.resume)
    if args.json or args.show:
        import shlex

        told = f"printf %s {shlex.quote(made.told)} | {shlex.join(made.argv)}"
        output.emit_json({"command": made.argv}) if args.json else output.say(told)
        return 0
    sys.stdout.flush()
    done = subprocess.run(made.argv, input=made.told.encode(), check=False)
    if done.returncode:
        raise AnswerNo(
            f"the copy is incomplete: sftp ended with {done.returncode}",
            remedy="see its output above; run the same command again, with --resume if it was interrupted",
        )
    return 0
