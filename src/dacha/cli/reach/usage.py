"""dacha status --usage: what guests use of this host."""

from __future__ import annotations

import argparse
import time
from pathlib import Path
from typing import TYPE_CHECKING, Any

from dacha.cli.terminal import output

if TYPE_CHECKING:
    from dacha.core.usage.usage import Sample
    from dacha.engine.workspace import Workspace

# The time between two samples (seconds); a watched view compares with the one before.
BETWEEN_S = 1.0
# How often a file of measurements is written with --watch (seconds).
EVERY_S = 15.0


def usage_options(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--usage", action="store_true", help="show what each guest uses of this host, measured for a second"
    )
    parser.add_argument(
        "--metrics", metavar="FILE",
        help="write the measurements to FILE as OpenMetrics text (- for standard output); with --watch every 15 s",
    )  # fmt: skip
    parser.add_argument(
        "--since", metavar="TIME",
        help='with --usage: what was used since then, as the caretaker measured it: "7 d", 14:30, 2026-11-30',
    )  # fmt: skip


def run_usage(args: argparse.Namespace) -> int:
    """Show the usage, once or until Ctrl-C."""
    from dacha.cli.words import lab_or_applied
    from dacha.engine.usage.doors import DoorTraffic
    from dacha.engine.usage.history import recent_growths
    from dacha.engine.usage.measure import samples, usage

    if args.metrics:
        return _metrics(args)
    ws = lab_or_applied(args)
    if args.since:
        from dacha.cli.reach.usage_since import run_since

        return run_since(args, ws)
    growths = recent_growths(ws.home)
    before, counted = samples(ws, agents=False), DoorTraffic(ws)
    if args.watch:
        from dacha.cli.terminal.live import watch

        held = {"before": before}
        time.sleep(BETWEEN_S)

        def draw() -> None:
            after = samples(ws, agents=True)
            output.say(output.paint(time.strftime("%H:%M:%S   q quits"), output.DIM))
            output.say()
            _print(usage(ws, held["before"], after, growths), counted.rates())
            held["before"] = after

        watch(draw, 2.0)
        return 0
    time.sleep(BETWEEN_S)
    _print(usage(ws, before, samples(ws, agents=True), growths), counted.rates())
    return 0


def usage_json(ws: Workspace) -> dict[str, Any]:
    """What the answer of `status` has more with --usage."""
    from dacha.engine.usage.doors import DoorTraffic
    from dacha.engine.usage.history import recent_growths
    from dacha.engine.usage.measure import samples, usage

    before, counted = samples(ws, agents=False), DoorTraffic(ws)
    time.sleep(BETWEEN_S)
    answer = _json(usage(ws, before, samples(ws, agents=True), recent_growths(ws.home)))
    answer["traffic"] = [
        {"guest": g, "door": d, "received_bytes_per_s": round(inward), "sent_bytes_per_s": round(outward)}
        for (g, d), (inward, outward) in counted.rates().items()
    ]
    return answer


def _metrics(args: argparse.Namespace) -> int:
    from dacha.engine.usage.exposition import exposition, write
    from dacha.engine.workspace import load_or_applied

    while True:
        ws = load_or_applied(args.lab)[0]
        if args.metrics == "-":
            output.say(exposition(ws).rstrip("\n"))
        else:
            write(ws, Path(args.metrics))
        if not args.watch:
            return 0
        time.sleep(EVERY_S)


def _size(value: float | None, unit: str = "") -> str:
    from dacha.core.units import show_size

    return "unknown" if value is None else show_size(round(value)) + unit


def _print(found: Any, doors: dict[tuple[str, str], tuple[float, float]]) -> None:
    from dacha.core.units import show_size

    rows = []
    for g in found.guests:
        s, r = g.sample, g.rates
        growth = g.storage.growth
        rows.append(
            (
                g.name,
                f"{r.cpu * 100:.0f} %" if r else "off" if s is None else "unknown",
                f"{show_size(s.resident)} ({show_size(s.promised)})" if s else "-",
                _size(s.available) if s else "-",
                f"{_size(r.read, '/s')}, {_size(r.written, '/s')}" if r else "-",
                f"{_size(r.received, '/s')}, {_size(r.sent, '/s')}" if r else "-",
                show_size(g.storage.size) + (f", +{show_size(round(growth))} a day" if growth is not None else ""),
            )
        )
    heads = ("GUEST", "CPU", "MEMORY (PROMISED)", "FREE INSIDE", "DISK READ, WRITTEN", "RECEIVED, SENT", "ON DISK")
    output.table(heads, rows)
    if doors:
        output.say()
        output.table(
            ("DOOR", "IN, OUT"),
            [(f"{g} {d}", f"{_size(i, '/s')}, {_size(o, '/s')}") for (g, d), (i, o) in doors.items()],
        )
    _print_host(found.host)
    reasons: dict[str, list[str]] = {}
    for g in found.guests:
        for reason in g.unknown:
            reasons.setdefault(reason, []).append(g.name)
    if reasons:
        output.say()
    for reason, names in reasons.items():
        output.say(f"unknown of {', '.join(names)}: {reason}")


def _print_host(host: Any) -> None:
    from dacha.core.units import show_size

    output.say()
    output.step(
        "processors", f"{host.cpu:.1f} of {host.cpus} used by guests that are on; {host.cpus_promised} promised"
    )
    output.step(
        "memory",
        f"{show_size(host.memory_resident)} used, {show_size(host.memory_promised)} promised; "
        f"{show_size(host.memory_free)} of {show_size(host.memory)} available",
    )
    for place in host.places:
        left = place.full_in_days
        when = "" if left is None else f"; full in {left:.0f} days at this rate" if left < 3650 else ""
        output.step(
            "disks",
            f"{show_size(place.used)} used, {show_size(place.promised)} more promised; {show_size(place.free)} of "
            f"{show_size(place.size)} free at {place.folder}{when}",
        )


def _json(found: Any) -> dict[str, Any]:
    host = found.host
    return {
        "usage": [
            {
                "name": g.name,
                "running": g.sample is not None,
                "cpus_used": None if g.rates is None else round(g.rates.cpu, 3),
                **_memory(g.sample),
                **_rates(g.rates),
                "stored_bytes": g.storage.size,
                "growth_bytes_per_day": None if g.storage.growth is None else round(g.storage.growth),
                "unknown": list(g.unknown),
            }
            for g in found.guests
        ],
        "resources": {
            "cpus": host.cpus,
            "cpus_promised": host.cpus_promised,
            "cpus_used": round(host.cpu, 3),
            "memory_bytes": host.memory,
            "promised_bytes": host.memory_promised,
            "resident_bytes": host.memory_resident,
            "available_bytes": host.memory_free,
            "storages": [
                {
                    "folder": p.folder, "size_bytes": p.size, "free_bytes": p.free, "stored_bytes": p.used,
                    "promised_bytes": p.promised,
                    "growth_bytes_per_day": None if p.growth is None else round(p.growth),
                    "full_in_days": None if p.full_in_days is None else round(p.full_in_days, 1),
                }
                for p in host.places
            ],
        },
    }  # fmt: skip


def _memory(sample: Sample | None) -> dict[str, int | None]:
    return {
        "resident_bytes": sample.resident if sample else None,
        "promised_bytes": sample.promised if sample else None,
        "available_bytes": sample.available if sample else None,
    }


def _rates(rates: Any) -> dict[str, int | None]:
    names = ("read", "written", "received", "sent")
    values = {name: getattr(rates, name) if rates else None for name in names}
    return {f"{name}_bytes_per_s": None if value is None else round(value) for name, value in values.items()}
