"""dacha trace."""

from __future__ import annotations

import argparse
import re
from typing import TYPE_CHECKING

from dacha.cli import arguments
from dacha.cli.terminal import output
from dacha.core.errors import UsageError
from dacha.core.lab.kinds import ORIGINS

if TYPE_CHECKING:
    from dacha.core.endpoint import Endpoint
    from dacha.core.trace.hop import Hop
    from dacha.core.trace.seen.evidence import Evidence
    from dacha.engine.trace.asking import Asked
    from dacha.engine.workspace import Workspace

# The interval of --watch (seconds).
WATCH_S = 2.0
# The shell's exit code for a command that Ctrl-C ended.
INTERRUPTED = 130
# A machine in ssh's syntax; it must not look like an option, or contain more than a name.
_MACHINE = re.compile(r"(?!-)[A-Za-z0-9._-]+(@(?!-)[A-Za-z0-9._:\[\]-]+)?")

# A user name, for Windows with the domain before a backslash; it must not look like an option.
_USER = re.compile(r"(?!-)[^\s/\\\"'`$;|&<>:]{1,64}(\\[^\s/\\\"'`$;|&<>:]{1,64})?")


def trace_arguments(parser: argparse.ArgumentParser) -> None:
    parser.description = (
        "Test the path to a guest's door, hop by hop, and stop at the first broken hop: what was seen,\n"
        "what it means, and what to do. Exit code 0 if the door is reachable, 1 if not."
    )
    arguments.door(parser, "door", optional=True)
    parser.add_argument("--from", dest="origin", choices=ORIGINS, help="origin of the path (default: as in the door)")
    parser.add_argument(
        "--asker", metavar="ADDRESS", help="address of a client: tells whether the door and the guest itself admit it"
    )
    parser.add_argument(
        "--at", metavar="USER@MACHINE", help="test it from another machine, too, through its SSH server"
    )
    parser.add_argument(
        "--wait", metavar="TIME",
        help="time limit for a slow guest's answers (default: depends on its speed, 60s at most)",
    )  # fmt: skip
    parser.add_argument(
        "--login", action=argparse.BooleanOptionalAction, default=True,
        help="log in by SSH with the lab file's key, if its private key is on this host (default)",
    )  # fmt: skip
    parser.add_argument(
        "--user", metavar="USER",
        help="log in as this user: by SSH with the same keys, by remote desktop with a password (prompted)",
    )  # fmt: skip
    parser.add_argument(
        "--to", metavar="HOST[:PORT]",
        help="the opposite direction: why the guest does not reach this machine (default port: 443)",
    )  # fmt: skip
    parser.add_argument("--watch", action="store_true", help="repeat until it is reachable, then exit")
    parser.add_argument("--all", action="store_true", help="continue after the first broken hop")


def run_trace(args: argparse.Namespace) -> int:
    from dacha.core.trace.hop import ASIDE
    from dacha.core.trace.judge import broken, judge
    from dacha.engine.trace.gather import gather, silent
    from dacha.engine.workspace import load

    if args.to is not None:
        from dacha.cli.reach.trace_to import run_trace_to

        return run_trace_to(args)
    ws = load(args.lab)
    asked = _asked(args, ws)
    door, origin = asked.plan, asked.origin
    if args.watch:
        _watch(args, asked)
    walk = _Walk(args, asked)
    evidence = gather(ws, asked, silent if args.json else walk.waits)
    hops = judge(evidence)
    stop = broken(hops)
    shown = hops if args.all or stop is None else hops[: hops.index(stop) + 1]
    if args.json:
        head = {
            "lab": ws.lab.name,
            "guest": args.guest,
            "door": door.door.name,
            "from": origin,
            **output.place_json(evidence.place),
            "outside": output.place_json(outside) if (outside := _outside(evidence)) else None,
        }
        warnings = [h.name for h in hops if h.verdict == ASIDE]
        output.emit_json(head | {"answers": stop is None, "broken": stop.name if stop else None, "warnings": warnings,
                                 "hops": [h._asdict() for h in shown]})  # fmt: skip
        return INTERRUPTED if evidence.gathered.interrupted else 1 if stop else 0
    walk.show(evidence, shown)
    if stop and len(shown) < len(hops):
        from dacha.core.trace.way import SHOWN

        rest = ", ".join(SHOWN[h.name] for h in hops[len(shown) :])
        output.say(f"  not shown: {rest} (--all shows them)")
    if evidence.gathered.interrupted:
        output.note("interrupted: answers that had not arrived are missing above")
        return INTERRUPTED
    return 1 if stop else 0


class _Walk:
    """The hops for people: each as soon as it is decided, and what is being waited for."""

    def __init__(self, args: argparse.Namespace, asked: Asked) -> None:
        self._args, self._asked = args, asked
        self._shown: dict[str, Hop] = {}
        self._headed = False

    def waits(self, evidence: Evidence, what: str, limit_s: float) -> None:
        """Show the hops that are fine so far, and what may take a while ("" for nothing)."""
        from dacha.core.trace.hop import FINE
        from dacha.core.trace.judge import judge
        from dacha.core.trace.way import BEHIND_WORDS

        if self._asked.origin == "outside" and evidence.router is None and not what:
            return  # the head names the router's own address
        fine = []
        for hop in judge(evidence):
            # What follows the service's first answer is asked next.
            if hop.verdict != FINE or hop.name in BEHIND_WORDS:
                break
            fine.append(hop)
        self.show(evidence, fine)
        if what:
            output.note(f"  …         waiting for {what}, up to {limit_s:.0f} s (Ctrl-C shows what is known)")

    def show(self, evidence: Evidence, hops: list[Hop]) -> None:
        """Show hops that are new, or whose verdict has changed."""
        from dacha.core.lab.kinds import ORIGIN_WORDS
        from dacha.core.plan.doors import endpoint

        if not self._headed:
            self._headed = True
            inside = endpoint(evidence.net.address, evidence.port) if evidence.net.address else f"port {evidence.port}"
            way = f"{evidence.place or 'nowhere'} → {inside}"
            if outside := _outside(evidence):
                way = f"{outside} → {way}"
            head = f"{self._args.guest}, {self._asked.plan.door.name}, from {ORIGIN_WORDS[self._asked.origin]}"
            output.say(f"{head}: {way}\n")
        for hop in hops:
            before = self._shown.get(hop.name)
            if before is None or before.verdict != hop.verdict:
                _show(hop)
                self._shown[hop.name] = hop


def _asked(args: argparse.Namespace, ws: Workspace) -> Asked:
    """What to trace. Raises UsageError for an impossible request."""
    from dacha.engine.lab.named import door_named
    from dacha.engine.trace.asking import Asked

    door = ws.plan_without_host.doors[args.guest, door_named(ws, args.guest, args.door).name]
    origin = args.origin or door.door.origin
    ends = {"host": "this host", "lan": "the LAN"}.get(door.door.origin)
    if door.door.away and origin != "host":
        from dacha.cli.words import closed_here
        from dacha.core.plan.places import NAME_IT

        what = f"door {args.guest} {door.door.name} is closed to the LAN at this place"
        raise UsageError(what, where=ws.path.name, why=closed_here(ws), remedy=NAME_IT)
    beyond = ORIGINS.index(origin) > ORIGINS.index(door.door.origin)
    if beyond and (door.means == "forward" or origin == "outside"):
        raise UsageError(
            f"door {args.guest} {door.door.name} is not exposed beyond {ends}", where=ws.path.name,
            remedy=f"dacha door edit {args.guest} {door.door.name} --from {origin}",
        )  # fmt: skip
    wait_s = arguments.wait_time(args.wait) if args.wait else None
    if args.at and origin == "host":
        raise UsageError(
            f"--at: door {args.guest} {door.door.name} is for this host only", where=ws.path.name,
            remedy=f"dacha door edit {args.guest} {door.door.name} --from lan",
        )  # fmt: skip
    if args.at and not _MACHINE.fullmatch(args.at):
        raise UsageError(
            f"--at: {args.at!r} is not a machine",
            remedy="write it as ops@192.0.2.20, or a Host of your ssh configuration",
        )
    if args.user and not _USER.fullmatch(args.user):
        raise UsageError(f"--user: {args.user!r} is not a user name", remedy="write it as kim, or DOMAIN\\kim")
    asked = Asked(door, origin, _address(args.asker), wait_s, args.login, args.at, args.user)
    if args.user and door.door.service == "rdp":
        asked = asked._replace(password=_password(args.user, args.guest))
    return asked


def _password(user: str, guest: str) -> str:
    """A user's password, typed invisibly; without a terminal, the first line of standard input."""
    import getpass
    import sys

    if not sys.stdin.isatty():
        return sys.stdin.readline().rstrip("\r\n")
    return getpass.getpass(f"Password of {user} in {guest} (nothing is shown): ")


def _watch(args: argparse.Namespace, asked: Asked) -> None:
    """Repeat until no hop is broken, and print each change of the broken hop."""
    import time

    from dacha.core.trace.judge import broken, judge
    from dacha.core.trace.way import SHOWN
    from dacha.engine.trace.gather import gather
    from dacha.engine.workspace import load

    if args.json:
        raise UsageError("--watch is for interactive use", remedy="call dacha trace --json repeatedly")
    before = None
    while True:
        # The lab file may be edited and applied meanwhile.
        ws = load(args.lab)
        door = ws.plan_without_host.doors.get((args.guest, asked.plan.door.name), asked.plan)
        stop = broken(judge(gather(ws, asked._replace(plan=door))))
        if stop is None:
            return
        if (stop.name, stop.seen.split(",")[0]) != before:
            before = (stop.name, stop.seen.split(",")[0])
            output.say(f"{time.strftime('%H:%M:%S')}  {SHOWN[stop.name]:<12} {stop.seen}")
            for line in stop.remedy.splitlines():
                output.say(f"{'':<22} {line}")
        time.sleep(WATCH_S)


def _outside(evidence: Evidence) -> Endpoint | None:
    """The address to type outside."""
    from dacha.core.plan.doors import endpoint

    router = evidence.router
    return endpoint(router.address or "the router", router.port) if router and router.port else None


def _show(hop: Hop) -> None:
    from dacha.cli.reach.hops import show_hop
    from dacha.core.trace.way import SHOWN

    show_hop(hop, SHOWN)


def _address(text: str | None) -> str | None:
    from ipaddress import ip_address

    if text is None:
        return None
    try:
        return str(ip_address(text))
    except ValueError:
        raise UsageError(f"--asker: {text!r} is not an address", remedy="write it as 192.0.2.20") from None
