"""Free subnets: proposed, stable over runs, without overlap with those in use."""

from __future__ import annotations

from bisect import bisect_left, insort
from collections.abc import Iterable
from ipaddress import IPv4Network

from dacha.core.sha256 import sha256

# RFC 1918 space that home routers and hypervisors rarely use, in /24 as most users expect.
POOLS = tuple(IPv4Network(n) for n in ("10.77.0.0/16", "10.93.0.0/16", "172.29.0.0/16"))
# The hypervisor's default for user-mode networks: a guest there looks unconfigured.
AVOIDED = (IPv4Network("10.0.2.0/24"),)


class UsedSubnets:
    """Subnets in use, sorted and disjoint, so that a thousand of them are searched quickly."""

    def __init__(self, subnets: Iterable[IPv4Network] = ()) -> None:
        self._spans: list[tuple[int, int, IPv4Network]] = []
        for net in subnets:
            self.add(net)

    def add(self, net: IPv4Network) -> None:
        """Register `net` as used; one inside a used one changes nothing."""
        span = (int(net.network_address), int(net.broadcast_address), net)
        clash = self.overlapping(net)
        if clash is not None and clash.prefixlen <= net.prefixlen:
            return
        self._spans = [s for s in self._spans if s[1] < span[0] or s[0] > span[1]] if clash else self._spans
        insort(self._spans, span, key=lambda s: s[0])

    def overlapping(self, net: IPv4Network) -> IPv4Network | None:
        """A used subnet that overlaps `net`, or None."""
        low, high = int(net.network_address), int(net.broadcast_address)
        at = bisect_left(self._spans, low, key=lambda s: s[1])
        if at < len(self._spans) and self._spans[at][0] <= high:
            return self._spans[at][2]
        return None


def free_subnet(lab: str, network: str, used: UsedSubnets) -> IPv4Network | None:
    """A /24 that overlaps nothing in `used`, the same at every run with the same use; None if all are in use. The
    search starts at an offset derived from the names, so that two labs rarely choose the same one."""
    start = int.from_bytes(sha256(f"subnet\0{lab}\0{network}".encode()).digest()[:2], "big") % 256
    for pool in POOLS:
        base = int(pool.network_address)
        for step in range(256):
            candidate = IPv4Network((base + ((start + step) % 256) * 256, 24))
            if used.overlapping(candidate) is None and not any(candidate.overlaps(a) for a in AVOIDED):
                return candidate
    return None
