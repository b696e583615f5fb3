"""dacha probe."""

from __future__ import annotations

import argparse
import time

from dacha.cli import arguments
from dacha.cli.terminal import output
from dacha.core.errors import UsageError
from dacha.core.units import whole_number

AS = ("ssh", "rdp", "vnc", "http", "https", "tcp")


def probe_arguments(parser: argparse.ArgumentParser) -> None:
    parser.description = (
        "Check whether a port speaks the expected protocol, as seen from this machine: no lab is needed. An open "
        "port alone\n"
        "proves nothing. Exit code 0 if the service answers as expected, 1 if not."
    )
    parser.add_argument("place", metavar="ADDRESS:PORT", help="address or name; an IPv6 address in brackets")
    parser.add_argument(
        "--as", dest="service", choices=AS, help="the expected protocol (default: by the port, else ssh)"
    )
    parser.add_argument("--wait", metavar="TIME", default="3 s", help="time limit (default: 3 s)")


def run_probe(args: argparse.Namespace) -> int:
    from dacha.core.lab.kinds import SERVICES
    from dacha.core.plan.doors import endpoint
    from dacha.core.trace.seen.results import OPEN, REFUSED, REJECTED, SILENT
    from dacha.core.trace.service import certificate_words
    from dacha.host.probe.certificates import certificate
    from dacha.host.probe.connect import address_of, touch
    from dacha.wire.probes import probe_for

    name, port = _place(args.place)
    service = args.service or next((s for s, p in SERVICES.items() if p == port), "ssh")
    wait_s = arguments.wait_time(args.wait)
    address = address_of(name)
    if address is None:
        raise UsageError(f"{name} does not resolve to an address", remedy="use the address itself, or check the name")
    found = touch(address, port, probe_for(None if service == "tcp" else service), wait_s)
    shown = None
    if found.ok and service in ("https", "rdp"):
        shown = certificate(address, port, wait_s, rdp=service == "rdp")
    holds, words = certificate_words(shown, time.time()) if shown else (True, "")
    ok = found.ok or (service == "tcp" and found.how == OPEN)
    said = {
        OPEN: found.seen if service != "tcp" or found.ok else "accepts connections",
        REFUSED: "refused: no program listens there, or a firewall rejects it",
        REJECTED: "rejected by a firewall on the path",
        SILENT: f"no answer within {wait_s:g} s: a firewall drops it, or no machine has that address",
    }.get(found.how, f"unreachable: {found.seen}")
    if args.json:
        output.emit_json(
            {
                "address": address,
                "port": port,
                "as": service,
                "answers": ok,
                "how": found.how,
                "seen": said,
                "certificate": shown._asdict() | {"holds": holds} if shown else None,
            }
        )
    else:
        output.say(
            f"{endpoint(address, port)} {'answers as ' + service if ok else 'does not answer as ' + service}: {said}"
        )
        if words:
            output.say(f"its certificate: {words}")
    return 0 if ok else 1


def _place(text: str) -> tuple[str, int]:
    """Address and port. Raises UsageError."""
    name, _, port = text.rpartition(":")
    name = name.removeprefix("[").removesuffix("]")
    number = whole_number(port)
    if not name or number is None or not 0 < number < 65536:
        raise UsageError(f"{text!r} is not ADDRESS:PORT", remedy="write it as 192.0.2.10:2210 or [2001:db8::10]:2210")
    return name, number
