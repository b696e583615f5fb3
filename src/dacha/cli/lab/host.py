"""dacha host."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING, Any

from dacha.cli.terminal import output
from dacha.core.errors import UsageError

if TYPE_CHECKING:
    from dacha.engine.check.whole_host import WholeHost
    from dacha.engine.workspace import Workspace


def host_arguments(parser: argparse.ArgumentParser) -> None:
    parser.description = "Show this host's resources, what is missing, and how much of it the lab's guests may use."
    parser.add_argument(
        "--clear", action="store_true", help="remove register entries (ports, users) of labs whose state was deleted"
    )


def run_host(args: argparse.Namespace) -> int:
    from dacha.engine.check.whole_host import whole_host
    from dacha.engine.workspace import load

    if args.clear:
        _clear(quiet=args.json)
        if not args.json:
            return 0
    try:
        ws = load(args.lab)
    except UsageError:
        ws = None  # the host can be examined without a lab
    host = whole_host(ws)
    if args.json:
        output.emit_json(_json(host))
    else:
        _have(host, ws.lab.name if ws else "")
        output.say()
        _place(ws)
        _parts(host)
        _usb(host)
        _problems(host)
    return 1 if any(f.severity == "error" for f in host.findings) else 0


def _clear(*, quiet: bool) -> None:
    from dacha.engine.labs.kept_labs import clear_registers

    entries = clear_registers()
    if not quiet:
        output.say(f"Removed {entries} {'entry' if entries == 1 else 'entries'} from this host's register.")


def _have(host: WholeHost, lab: str) -> None:
    """This host's resources, and what the lab reserves of them."""
    from dacha.core.units import show_size

    def against(amount: str) -> str:
        return f"{amount} reserved by {lab}" if lab else ""

    have, asked = host.have, host.promised or (0, 0, 0)
    memory = f"{show_size(have.memory)}, {show_size(have.memory_free)} free"
    rows = [("CPUs", str(have.cpus), against(str(asked[0]))), ("memory", memory, against(show_size(asked[1])))]
    for name, path in host.stores.items():
        grows = f"may grow by {show_size(host.growth[str(path)])}" if str(path) in host.growth else ""
        rows.append((f"disk ({name})", f"{show_size(have.disk_free[str(path)])} free in {path}", grows))
    rows.append(("address", str(host.lan) if host.lan else "none on a LAN", ""))
    output.table(("", "THIS HOST", "THE LAB"), rows)


def _place(ws: Workspace | None) -> None:
    """The network that this host is on, as a table [place.NAME] names it."""
    from dacha.host.network.here import here

    found = ws.here if ws and ws.here else here()
    if found:
        name = f", place {ws.place}" if ws and ws.place else ""
        output.named("network", f"{found}, subnet {found.subnet or 'unknown'}{name}")


def _parts(host: WholeHost) -> None:
    """How guests run and are isolated, which programs are installed."""
    from dacha.host import facts

    output.named("accelerator", f"{host.choice.name}: {host.choice.why}")
    if host.users:
        output.named("users of guests", f"{host.users[0]}-{host.users[1]}: each guest runs as a user of its own")
    for part in host.protection:
        if not part.there:
            output.named(part.name, f"missing: {part.without}")
    for name, _, purpose in facts.PROGRAMS:
        found = facts.program(name)
        output.named(name, found or f"not installed: it {purpose}")


def _usb(host: WholeHost) -> None:
    """The USB devices that guests may have."""
    if not host.usb:
        return
    from dacha.core.harmless import harmless

    output.say()
    rows = []
    for d, guest in host.usb:
        use = f"guest {guest}" if guest else "; ".join(map(str, d.used))
        rows.append((d.device, d.port, d.name or "-", harmless(d.serial) or "-", use or "-"))
    output.table(("USB DEVICE", "PORT", "NAME", "SERIAL NUMBER", "USED BY"), rows)


def _problems(host: WholeHost) -> None:
    """Leftovers and problems."""
    if host.leftovers:
        output.say("\nLeft over:")
        for item in host.leftovers:
            output.say(f"  {item.what}\n    {item.remedy}")
    if host.findings:
        output.say()
        output.show_findings("lab.toml", host.findings)


def _json(host: WholeHost) -> dict[str, Any]:
    from dacha.host import facts

    asked = host.promised
    return {
        "cpus": host.have.cpus,
        "memory_bytes": host.have.memory,
        "memory_free_bytes": host.have.memory_free,
        "accelerator": host.choice.name,
        "accelerator_why": host.choice.why,
        "lan_address": str(host.lan) if host.lan else None,
        "stores": {
            name: {"folder": str(path), "free_bytes": host.have.disk_free[str(path)]}
            for name, path in host.stores.items()
        },
        "promised": {"cpus": asked[0], "memory_bytes": asked[1], "disk_bytes": asked[2]} if asked else None,
        "guest_users": list(host.users) if host.users else None,
        "protection": {part.name: part.there for part in host.protection},
        "programs": {name: facts.program(name) for name, _, _ in facts.PROGRAMS},
        "usb": [
            {
                "device": d.device,
                "port": d.port,
                "name": d.name,
                "serial": d.serial,
                "guest": guest,
                "used": list(map(str, d.used)),
            }
            for d, guest in host.usb
        ],
        "left_over": [{"what": item.what, "remedy": item.remedy} for item in host.leftovers],
        "findings": [output.finding_json("lab.toml", f) for f in host.findings],
    }
