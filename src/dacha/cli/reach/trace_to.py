"""dacha trace GUEST --to HOST:PORT: the way from a guest to something else."""

from __future__ import annotations

import argparse
import re

from dacha.cli import arguments
from dacha.cli.terminal import output
from dacha.core.errors import UsageError

# A DNS name (RFC 1123 section 2.1), or an address; it goes into a script, so nothing else is accepted.
_TARGET = re.compile(r"(?!-)[A-Za-z0-9.-]{1,253}")
# The default port: most machines answer there, and others refuse.
USUAL_PORT = 443


def run_trace_to(args: argparse.Namespace) -> int:
    from dacha.cli.reach.hops import show_hop
    from dacha.core.endpoint import Endpoint
    from dacha.core.trace.hop import BROKEN
    from dacha.core.trace.outward import SHOWN, judge
    from dacha.core.trace.seen.outward import GOT_IN
    from dacha.engine.lab.named import guest_named
    from dacha.engine.trace.outward import look
    from dacha.engine.workspace import load

    if args.door or args.origin or args.asker or args.at or args.user or args.watch:
        raise UsageError("--to tests the path out of the guest: a door and its options do not apply")
    ws = load(args.lab)
    guest = guest_named(ws, args.guest)
    target, port = _target(args.to)
    seen = look(ws, guest, target, port, arguments.wait_time(args.wait) if args.wait else None)
    hops = judge(seen)
    stop = next((hop for hop in hops if hop.verdict == BROKEN), None)
    if args.json:
        output.emit_json(
            {
                "lab": ws.lab.name,
                "guest": args.guest,
                "to": {"host": target, "port": port},
                "answers": stop is None and seen.tried == GOT_IN,
                "broken": stop.name if stop else None,
                "hops": [hop._asdict() for hop in hops],
            }
        )
    else:
        output.say(f"{args.guest} to {Endpoint(target, port)}\n")
        for hop in hops:
            show_hop(hop, SHOWN)
    return 0 if seen.tried == GOT_IN else 1


def _target(text: str) -> tuple[str, int]:
    """The target of --to: a name or an address, and a TCP port. Raises UsageError."""
    from dacha.core.units import whole_number

    # An IPv6 address is in brackets if a port follows (RFC 3986 section 3.2.2).
    host, written = _ipv6(text), ""
    if not host and text.startswith("["):
        inner, closed, after = text[1:].partition("]")
        if closed and after[:1] in ("", ":"):
            host, written = _ipv6(inner), after[1:]
    elif not host:
        host, _, written = text.partition(":")
    port = whole_number(written) if written else USUAL_PORT
    if not (_TARGET.fullmatch(host) or _ipv6(host)) or port is None or not 1 <= port <= 65535:
        raise UsageError(
            f"--to: {text!r} is not a machine",
            remedy="write it as 192.0.2.20:80, [2001:db8::20]:80, or pier.example:443",
        )
    if host.startswith("127.") or host in ("localhost", "::1"):
        raise UsageError(f"--to: {host} is the guest itself", remedy="specify another machine: 192.0.2.20:80")
    return host, port


def _ipv6(text: str) -> str:
    """The IPv6 address in its usual form (RFC 5952); "" for anything else, and for one of a single link."""
    from ipaddress import IPv6Address

    try:
        return "" if "%" in text else str(IPv6Address(text))
    except ValueError:
        return ""
