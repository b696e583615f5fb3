"""The network that this host is on: its router, from the kernel's own tables (proc(5), RFC 826)."""

from __future__ import annotations

import contextlib
import socket
import time
from ipaddress import IPv4Address, IPv4Network

from dacha.core.plan.places import Here
from dacha.host.network import addresses

_NEIGHBOURS = "/proc/net/arp"
# An entry with a known hardware address (ATF_COM, linux/if_arp.h).
_COMPLETE = 0x2
# The port of the discard service (RFC 863): nothing is expected back, the router's hardware address is looked up.
_DISCARD = 9
_LOOK_S = 0.02


def here(patient_s: float = 0.0) -> Here | None:
    """Where this host is; None without a default route. The router's hardware address is waited for `patient_s`
    seconds."""
    until = time.monotonic() + patient_s
    while True:
        found = _look()
        if found is None or found.hardware_address:
            return found
        _ask(found.router)
        if time.monotonic() >= until:
            return found
        time.sleep(_LOOK_S)


def _look() -> Here | None:
    table = addresses.routes()
    way = addresses.default_route([r for r in table if r.via])
    if way is None:
        return None
    router = IPv4Address(way.via)
    direct = [r for r in table if r.interface == way.interface and not r.via and r.mask]
    subnets = [IPv4Network((r.to, r.mask.bit_count())) for r in direct]
    subnet = next((s for s in sorted(subnets, key=lambda s: -s.prefixlen) if router in s), None)
    return Here(way.interface, router, _hardware_address(way.interface, router), subnet)


def _hardware_address(interface: str, router: IPv4Address) -> str | None:
    try:
        with open(_NEIGHBOURS) as f:
            rows = [line.split() for line in f.read().splitlines()[1:]]
    except OSError:
        return None
    for row in rows:
        if len(row) > 5 and row[0] == str(router) and row[5] == interface and int(row[2], 16) & _COMPLETE:
            return row[3].lower()
    return None


def _ask(router: IPv4Address) -> None:
    """Let the kernel look up the router's hardware address."""
    with contextlib.suppress(OSError), socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as s:
        s.setblocking(False)
        s.sendto(b"", (str(router), _DISCARD))
