"""dacha caretaker run, status, stop, install."""

from __future__ import annotations

import argparse
import time
from typing import TYPE_CHECKING, Any

from dacha.cli.commands import Action, nothing
from dacha.cli.terminal import output
from dacha.core.units import show_duration

if TYPE_CHECKING:
    from dacha.engine.workspace import Workspace


def caretaker_arguments(parser: argparse.ArgumentParser) -> None:
    parser.description = (
        "The process that serves DHCP and DNS on kernel networks, and renews the port mappings in the router.\n"
        "apply starts it; stopping it stops no guest and\n"
        "closes no door."
    )


def _install(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--print", dest="show", action="store_true", help="print the systemd unit, and change nothing")
    parser.add_argument("--remove", action="store_true", help="remove the unit; guests and doors are not affected")
    parser.add_argument("--to", metavar="FOLDER", help="only write the unit file, into this folder")


def run_run(args: argparse.Namespace) -> int:
    from dacha.caretaker.run import run
    from dacha.core.errors import AnswerNo, BusyError
    from dacha.engine.workspace import load
    from dacha.host import folders

    ws = load(args.lab)
    folders.make_private(ws.home.folder)
    try:
        run(ws.path, echo=True)
    except BusyError:
        raise AnswerNo(
            "the caretaker is already running",
            remedy="to look at it: dacha caretaker status; to stop it: dacha caretaker stop",
        ) from None
    return 0


def run_status(args: argparse.Namespace) -> int:
    from dacha.caretaker.journal import read
    from dacha.engine.apply.pending import follows_places, minds_guests
    from dacha.engine.caretaker import process as caretaking
    from dacha.engine.router import mappings
    from dacha.engine.workspace import load
    from dacha.host.processes import started_at

    ws = load(args.lab)
    process = caretaking.running(ws.home)
    since = started_at(process) if process else None
    older = process is not None and caretaking.older(ws.home)
    networks = [n.name for n in ws.lab.networks.values() if n.managed]
    needed = (
        mappings.needed(ws)
        or follows_places(ws)
        or minds_guests(ws)
        or any(n.by_kernel for n in ws.lab.networks.values())
    )
    rows = [
        (network, lease)
        for network in networks
        for lease in read(ws.home.leases(network)).values()
        if lease.state != "declined"
    ]
    if args.json:
        answer = {
            "running": process is not None,
            "pid": process.pid if process else None,
            "since": output.moment(since),
            "older": older,
        }
        leases = [_lease_json(network, lease) for network, lease in rows]
        output.emit_json(answer | {"networks": networks, "log": str(ws.home.caretaker_log), "leases": leases})
        return 0 if process or not needed else 1
    if not needed:
        output.say(
            "This lab has no kernel network, no door from outside, no place, no guest with a restart policy and no "
            "command for an event: it needs no caretaker."
        )
        return 0
    output.say(_state(ws, process, since, networks))
    output.say(f"Its log: {ws.home.caretaker_log}")
    _leases(rows)
    return 0 if process else 1


def _state(ws: Workspace, process: Any, since: float | None, networks: list[str]) -> str:
    """Whether it runs, and what it does for this lab, or what is lacking without it."""
    from dacha.cli.words import closed_here
    from dacha.engine.apply.pending import follows_places, minds_guests
    from dacha.engine.caretaker import process as caretaking
    from dacha.engine.router import mappings

    from_outside, placed, minded = mappings.needed(ws), follows_places(ws), minds_guests(ws)
    if process is None:
        lacks = _lacking(networks, from_outside, placed, _duties(ws) if minded else [])
        return f"The caretaker is not running: {lacks}. To start it: dacha apply"
    age = f", for {show_duration(time.time() - since)} now" if since else ""
    lines = [f"The caretaker is running{age}, process {process.pid}."]
    if caretaking.older(ws.home):
        lines.append("It runs another version of Dacha. To restart it: dacha apply")
    if from_outside:
        lines.append(_router(mappings.read(ws.home)))
    if placed:
        lines.append(f"It closes doors at other places. {closed_here(ws) or 'None is closed here.'}")
    if minded:
        lines += [does for does, _ in _duties(ws)]
    if not networks and len(lines) == 1:
        what = "It serves no network, as bridged networks use their LAN's servers; it tracks the guests' addresses."
        lines.append(what)
    return "\n".join(lines)


def _duties(ws: Workspace) -> list[tuple[str, str]]:
    """What the lab file asks of it for guests: each as what it does, and what is lacking without it."""
    lab, guests = ws.lab, ws.lab.guests.values()
    port = lab.usage.port if lab.usage else None
    served = f", also for a collector at http://127.0.0.1:{port}/metrics" if port else ""
    restarts = any(g.restart != "never" for g in guests)
    duties = (
        (restarts, "It restarts guests according to their restart policies.", "guests that end are not restarted"),
        (any(g.archive for g in guests), "It saves guests to archives.", "guests are not saved to archives"),
        (lab.usage, f"It measures what guests use{served}.", "nothing is measured"),
        (lab.lan_names, "It announces guests' names on the LAN.", "guests' names are not announced on the LAN"),
        (any(g.usb for g in guests), "It gives guests their USB devices.", "USB devices that are plugged in stay here"),
        (lab.alerts, "It runs the lab's commands at events.", "no command is run at an event"),
    )
    asked = [(does, lacks) for wanted, does, lacks in duties if wanted]
    return asked or [("It records when guests end.", "ends of guests are not recorded")]


def _lacking(networks: list[str], from_outside: bool, placed: bool, duties: list[tuple[str, str]]) -> str:
    """What does not work while it is not running."""
    lacks = ["guests get neither addresses nor name resolution"] if networks else []
    lacks += ["port mappings in the router are not renewed"] if from_outside else []
    lacks += ["no door is closed when this host moves to another place"] if placed else []
    lacks += [lack for _, lack in duties]
    return ", and ".join(lacks) or "guests' addresses are not tracked"


def _lease_json(network: str, lease: Any) -> dict[str, Any]:
    return {
        "network": network,
        "address": str(lease.address),
        "hardware_address": lease.hardware.hex(":"),
        "host_name": lease.host_name,
        "state": lease.state,
        "until": output.moment(lease.until),
    }


def _leases(rows: list[tuple[str, Any]]) -> None:
    """The leases as a table, by network and address."""
    if not rows:
        return
    output.say()
    body = [
        (network, str(x.address), x.hardware.hex(":"), x.host_name or "-", _now(x.state, x.until))
        for network, x in sorted(rows, key=lambda r: (r[0], r[1].address))
    ]
    output.table(("NETWORK", "ADDRESS", "HARDWARE ADDRESS", "NAME", "NOW"), body)


def _router(known: Any) -> str:
    """The router's forwarded doors, in a line."""
    if not known.mappings:
        return f"The router {known.router} forwards nothing: {known.trouble or 'not requested yet'}"
    doors = dict.fromkeys(f"{m.wanted.guest} {m.wanted.door}" for m in known.mappings)
    place = known.address or "an address that it does not report"
    return f"The router {known.router} forwards {', '.join(doors)} at {place}; the mapping is renewed in time."


def _now(state: str, until: float) -> str:
    left = until - time.time()
    if state == "released":
        return "released"
    return f"leased, {show_duration(left)} left" if left > 0 else "expired"


def run_install(args: argparse.Namespace) -> int:
    from functools import partial

    from dacha.engine.caretaker import process as caretaking
    from dacha.engine.caretaker import unit as at_boot
    from dacha.engine.workspace import load
    from dacha.host import folders

    ws = load(args.lab)
    ws.refuse_if_wrong()
    folder = folders.expand(args.to).absolute() if args.to else None
    if args.show:
        output.say(at_boot.unit_text(ws).rstrip())
    elif args.remove:
        path = at_boot.remove(ws, folder)
        output.say(f"Removed {path}." if path else "It is not installed.")
    else:
        path = at_boot.install(ws, folder, partial(caretaking.stop, ws.home))
        if folder is None:
            # The service manager does not wait for it.
            caretaking.await_running(ws.home)
        output.say(f"Wrote {path}.")
        names = [g.name for g in sorted(ws.lab.guests.values(), key=lambda g: g.start.order) if g.start.at_boot]
        started = f"starts {', '.join(names)}" if names else "starts no guest: no guest has start = { at-boot = true }"
        output.say(f"At the boot of this host, the caretaker {started}.")
        if folders.lingers() is False:
            output.say(
                "It starts at your first login and ends with your last one; to keep it running: loginctl enable-linger"
            )
    return 0


def _stop(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--with-host",
        action="store_true",
        help="only if this host is shutting down: stop its guests in reverse order of their start (used by the unit)",
    )


def run_stop(args: argparse.Namespace) -> int:
    from dacha.engine.caretaker import process as caretaking
    from dacha.engine.workspace import load

    if args.with_host:
        from dacha.caretaker.boot import host_stops, stop_guests
        from dacha.engine.workspace import load_applied

        if host_stops():
            stop_guests(load_applied(load(args.lab).path), lambda subject, text, took: output.step(subject, text))
        return 0
    stopped = caretaking.stop(load(args.lab).home)
    output.say(
        "The caretaker has stopped. Guests and doors are not affected." if stopped else "The caretaker is not running."
    )
    return 0


_QUIET = "lab debug"
ACTIONS = (
    Action("run", "run in the foreground, until it is stopped", "dacha caretaker run", nothing, run_run, _QUIET),
    Action(
        "status", "show whether it is running, and its leases", "dacha caretaker status", nothing, run_status
    ),
    Action("stop", "stop it; apply starts it again", "dacha caretaker stop", _stop, run_stop, _QUIET),
    Action(
        "install", "start it at every boot of this host, and again if it exits", "dacha caretaker install",
        _install, run_install, _QUIET,
    ),
)  # fmt: skip
