"""dacha guest list and show."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from dacha.cli.terminal import output

if TYPE_CHECKING:
    from dacha.core.apply.usb import Seat
    from dacha.engine.workspace import Workspace


def emit_guest(ws: Workspace, name: str) -> None:
    from dacha.cli.words import guest_json

    output.emit_json(guest_json(ws, ws.lab.guests[name]))


def run_list(args: argparse.Namespace) -> int:
    from dacha.cli.words import guest_json
    from dacha.core.units import show_size
    from dacha.engine.workspace import load

    ws = load(args.lab)
    if args.json:
        output.emit_json({"lab": ws.lab.name, "guests": [guest_json(ws, g) for g in ws.lab.guests.values()]})
        return 0
    if not ws.lab.guests:
        output.say("No guests yet. Next: dacha guest add NAME --from IMAGE")
        return 0
    output.table(
        ("GUEST", "SYSTEM", "CPUS", "MEMORY", "ADDRESS", "NETWORK", "DOORS"),
        [
            (
                g.name,
                g.system,
                str(g.cpus),
                show_size(g.memory),
                ", ".join(str(a.address or "-") for a in ws.plan.adapters_of(g.name)) or "-",
                ", ".join(a.network for a in g.adapters) or "-",
                ", ".join(d.name for d in g.doors) or "-",
            )
            for g in ws.lab.guests.values()
        ],
    )
    return 0


def _last_archive(ws: Workspace, name: str) -> str:
    import time

    from dacha.core.errors import HostError
    from dacha.engine.archive.due import archives

    try:
        made = archives(ws, name)
    except HostError as e:
        return f"unknown: {e.what}"
    if not made:
        return "none yet: the caretaker makes it, or dacha guest archives --make"
    at = max(made)
    when = time.strftime("%Y-%m-%d %H:%M", time.localtime(at))
    return f"{when}: {made[at].file}" + (f", and {len(made) - 1} older" if len(made) > 1 else "")


def seat_words(seat: Seat) -> str:
    """The state of a USB device that a guest should have."""
    if seat.found is None:
        return "not plugged in"
    which = f"{seat.found.name or seat.found.device}, port {seat.found.port}"
    if seat.attached:
        return f"{which}, in the guest"
    if seat.use:
        return f"{which}, used by this host: {seat.use}"
    if seat.holder:
        return f"{which}, which guest {seat.holder} has"
    return f"{which}: plugged in, not in the guest"


def run_show(args: argparse.Namespace) -> int:
    from dacha.cli.words import door_words, guest_json, guest_words
    from dacha.core.lab.names import host_name, machine_uuid
    from dacha.engine.lab.named import guest_named
    from dacha.engine.lab.origins import values_of
    from dacha.engine.workspace import load
    from dacha.hypervisor.monitor import agent

    ws = load(args.lab)
    guest = guest_named(ws, args.name)
    if args.json:
        values = [v._asdict() for v in values_of(ws, guest)]
        output.emit_json(guest_json(ws, guest) | {"values": values})
        return 0
    output.say(f"{guest.name}: {guest_words(guest)}")
    output.step("name", host_name(ws.lab.name, guest.name))
    output.step("identifier", machine_uuid(ws.lab.name, guest.name))
    inside = {d.name for d in guest.disks}
    for name, path in ws.home.disks(guest.name):
        output.step(f"disk {name}", f"{path.resolve()}{'' if name in inside else ' (kept, not attached)'}")
    if guest.login:
        output.step("login", f"{guest.login.user}, with {', '.join(guest.login.keys) or 'no key'}")
    for d in guest.doors:
        output.step(f"door {d.name}", door_words(ws.plan.doors[guest.name, d.name]))
    if guest.usb:
        from dacha.engine.guest.usb import seated

        for seat in seated(ws)[guest.name]:
            output.step("USB device", f"{seat.usb}: {seat_words(seat)}")
    if guest.archive:
        output.step("last archive", _last_archive(ws, guest.name))
    if ws.home.is_running(guest.name):
        told = agent.addresses(ws.home.run(guest.name))
        output.step(
            "guest agent", "does not respond" if told is None else "; ".join(a for _, a in told) or "reports no address"
        )
    output.step("console record", str(ws.home.guest(guest.name) / "console.log"))
    output.say()
    output.table(("VALUE", "IS", "FROM"), [tuple(v) for v in values_of(ws, guest)])
    return 0
