"""The guest's routes and neighbour entries, as it reports them (ip-route(8), proc(5))."""

from __future__ import annotations

from collections.abc import Iterable
from ipaddress import IPv4Network, ip_address, ip_network
from itertools import pairwise

from dacha.core.named import NamedTuple

# Routes that discard what they match (ip-route(8)).
DISCARDING = ("blackhole", "unreachable", "prohibit", "throw")
# linux/if_arp.h: an entry that was set by hand.
_ATF_PERM = 0x04
_DEFAULT = ip_network("0.0.0.0/0")


class Way(NamedTuple):
    """A route of IPv4: its kind ("" for an ordinary one), the addresses that it is for, the gateway and the link ("" if
    it has none)."""

    kind: str
    to: IPv4Network
    via: str
    dev: str

    @property
    def is_default(self) -> bool:
        return self.to == _DEFAULT

    def __str__(self) -> str:
        to = "default" if self.is_default else str(self.to)
        words = (self.kind, to, self.via and f"via {self.via}", self.dev and f"dev {self.dev}")
        return " ".join(filter(None, words))


class Entry(NamedTuple):
    """A neighbour entry: the hardware address that the guest has for an address on a link, and whether it was set by
    hand."""

    address: str
    hardware: str
    dev: str
    fixed: bool


def read_way(line: str) -> Way:
    """A line of `ip -4 route`. Raises ValueError."""
    words = line.split()
    kind = words.pop(0) if words and words[0] in DISCARDING else ""
    to = words.pop(0) if words else ""
    named = dict(pairwise(words))
    network = _DEFAULT if to == "default" else ip_network(to)
    if not isinstance(network, IPv4Network):
        raise ValueError(line)
    via = named.get("via", "")
    return Way(kind, network, str(ip_address(via)) if via else "", named.get("dev", "")[:15])


class Reply(NamedTuple):
    """The route of replies to a client by the guest's policy rules; None, and the kernel's `error`, if they are
    discarded. `table` is the table that the route is from ("" for the main one)."""

    client: str
    way: Way | None
    table: str = ""
    error: str = ""


def read_reply(words: list[str]) -> Reply:
    """A client, and the first line of `ip route get CLIENT from ADDRESS`. Raises ValueError."""
    client, *line = words
    if not line or line[0] != client:
        return Reply(client, None, error=" ".join(line).rpartition("answers: ")[2][:60])
    named = dict(pairwise(line[1:]))
    via = named.get("via", "")
    way = Way("", IPv4Network(client), str(ip_address(via)) if via else "", named.get("dev", "")[:15])
    return Reply(client, way, named.get("table", "")[:20])


def read_entry(words: list[str]) -> Entry:
    """The fields of a line of /proc/net/arp: address, type, flags, hardware address, mask, link. Raises ValueError."""
    if len(words) < 6:
        raise ValueError(words)
    return Entry(str(ip_address(words[0])), words[3].lower()[:17], words[5][:15], bool(int(words[2], 16) & _ATF_PERM))


def way_to(ways: Iterable[Way], address: str) -> Way | None:
    """The route that the guest takes for an IPv4 address: the one for the fewest addresses. (Tables other than the main
    one are not looked at.)"""
    wanted = ip_address(address)
    found = [way for way in ways if wanted in way.to]
    return max(found, key=lambda way: way.to.prefixlen, default=None)
