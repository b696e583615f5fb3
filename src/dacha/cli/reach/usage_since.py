"""dacha status --usage --since: what guests used over a longer time."""

from __future__ import annotations

import argparse
import time
from typing import TYPE_CHECKING, Any

from dacha.cli.terminal import output
from dacha.core.errors import BadValue, UsageError

if TYPE_CHECKING:
    from dacha.engine.workspace import Workspace


def run_since(args: argparse.Namespace, ws: Workspace) -> int:
    """Show what the caretaker measured since the given time."""
    from dacha.core.units import show_duration, show_size

    found = measured(args, ws)
    began = time.strftime("%Y-%m-%d %H:%M", time.localtime(found.first))
    output.say(f"since {began}, measured for {show_duration(found.measured_s)}")
    output.say()
    rows = []
    for name, p in found.guests.items():
        on = "off" if not p.on_s else show_duration(p.on_s)
        share = f"{p.cpu * 100:.0f} % ({p.cpu_peak * 100:.0f} %)" if p.on_s else "-"
        memory = f"{show_size(round(p.memory))} ({show_size(p.memory_peak)})" if p.on_s else "-"
        growth = "-" if p.growth is None else _signed(p.growth)
        rows.append((name, on, share, memory, _pair(p.read, p.written), _pair(p.received, p.sent), growth))
    heads = ("GUEST", "ON FOR", "CPU (PEAK)", "MEMORY (PEAK)", "DISK READ, WRITTEN", "RECEIVED, SENT", "GROWTH A DAY")
    output.table(heads, rows)
    unknown = [name for name, p in found.guests.items() if p.on_s and p.received is None]
    if unknown:
        from dacha.engine.usage.measure import NOT_COUNTED

        output.say()
        output.say(f"unknown of {', '.join(unknown)}: traffic: {NOT_COUNTED}")
    if found.doors:
        output.say()
        output.table(("DOOR", "IN, OUT"), [(" ".join(door), _pair(*both)) for door, both in found.doors.items()])
    return 0


def since_json(args: argparse.Namespace, ws: Workspace) -> dict[str, Any]:
    """What the answer of `status` has more with --usage --since."""
    found = measured(args, ws)
    rows = []
    for name, p in found.guests.items():
        average = p.cpu if p.on_s else None
        rows.append(
            {
                "name": name, "on_s": round(p.on_s), "cpu_s": round(p.cpu_s, 1),
                "cpus_used": None if average is None else round(average, 3), "cpus_peak": round(p.cpu_peak, 3),
                "resident_bytes": round(p.memory), "resident_peak_bytes": p.memory_peak, "read_bytes": p.read,
                "written_bytes": p.written, "received_bytes": p.received, "sent_bytes": p.sent,
                "growth_bytes_per_day": None if p.growth is None else round(p.growth),
            }
        )  # fmt: skip
    doors = [
        {"guest": guest, "door": door, "received_bytes": i, "sent_bytes": o}
        for (guest, door), (i, o) in found.doors.items()
    ]
    return {
        "measured": {
            "since": round(found.first),
            "measured_s": round(found.measured_s),
            "usage": rows,
            "traffic": doors,
        }
    }


def measured(args: argparse.Namespace, ws: Workspace) -> Any:
    """What was measured since the given time. Raises UsageError."""
    from dacha.engine.log.moment import moment
    from dacha.engine.usage.history import over

    try:
        since = moment(args.since, time.time())
    except BadValue as e:
        raise UsageError(f"--since: {e.what}", remedy=e.remedy) from None
    return over(ws, since)


def _pair(inward: int | None, outward: int | None) -> str:
    from dacha.core.units import show_size

    if inward is None or outward is None:
        return "unknown"
    return f"{show_size(inward)}, {show_size(outward)}"


def _signed(growth: float) -> str:
    from dacha.core.units import show_size

    return f"{'-' if growth < 0 else '+'}{show_size(round(abs(growth)))}"
