"""A hop of the way to a service, as it is judged and shown."""

from __future__ import annotations

from typing import NamedTuple

# ASIDE is something that is wrong and keeps nobody out of this door.
FINE, BROKEN, UNTESTED, ASIDE = "fine", "broken", "not tested", "warning"
# Every hop's stable name, in the order of the way, with what a person calls it.
HOPS = {
    "lab-file": "lab file", "applied": "applied", "guest": "guest", "boot": "boot", "adapter": "adapter",
    "address": "address", "neighbour": "link", "route": "route", "forward": "forward", "service": "service",
    "protocol": "protocol", "security": "security", "key": "host key", "certificate": "certificate",
    "size": "packet size", "reply": "reply path", "door-rule": "door rule",
    "forwarding": "forwarding", "firewall": "firewalls", "sources": "sources", "lan-address": "LAN address",
    "router": "router", "outside-address": "outside", "door": "the door", "names": "names",
}  # fmt: skip


class Hop(NamedTuple):
    """One hop: what was seen, and for a broken one what it means and what to do."""

    name: str
    verdict: str
    seen: str
    means: str = ""
    remedy: str = ""
