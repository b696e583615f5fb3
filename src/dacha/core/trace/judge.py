"""The path to one service, hop by hop: from the evidence to a verdict on each, its cause and its remedy.

Pure: the `Evidence` is gathered elsewhere and all at once, so that one hop may be judged by what others showed. A hop
is broken only if something was seen that blocks clients.
"""

from __future__ import annotations

from dacha.core.trace.hop import BROKEN, UNTESTED, Hop
from dacha.core.trace.seen.evidence import Evidence
from dacha.core.trace.way import WAY

# Hops that are judged without examining the guest.
WITHOUT_GUEST = ("lab-file", "applied", "guest", "sources")

# Hops that are judged by packets to the guest: if no packet can pass, silence proves nothing about the guest.
BY_PACKETS = ("address", "neighbour", "service", "protocol", "size", "reply", "door", "there")


# One that rules below IP can silence as well.
BELOW_IP = "neighbour"


def _closed(e: Evidence, hop: str) -> str:
    """Why this host's own packets do not reach the guest, or the replies do not come back; "" if they do."""
    if e.host.confinement is not None and e.host.confinement.missing:
        return "the network carries no traffic without the lab's firewall rules"
    dropped = e.host.dropped_here
    if dropped is None or (hop in ("address", BELOW_IP) and not dropped.below_ip):
        return ""
    packets = "the replies to this host" if dropped.back else "this host's own packets"
    return f"{dropped.what} drops {packets}"


def judge(e: Evidence) -> list[Hop]:
    """Every hop of the path, in order."""
    unanswered = dict(e.gathered.unanswered)
    hops = []
    for kind in WAY:
        hop = kind.judge(e) if kind.on(e) else None
        if hop is not None and e.run.state in ("off", "saved") and kind.name not in WITHOUT_GUEST:
            hop = Hop(kind.name, UNTESTED, "not tested: the guest is off")
        if hop is not None and hop.verdict == BROKEN and kind.name in BY_PACKETS and (why := _closed(e, kind.name)):
            hop = Hop(kind.name, UNTESTED, f"not tested: {why}")
        if hop is None and kind.on(e) and kind.name in unanswered:
            # A hop is never omitted because its question failed.
            hop = Hop(kind.name, UNTESTED, unanswered[kind.name])
        if hop is not None:
            hops.append(hop)
    return hops


def broken(hops: list[Hop]) -> Hop | None:
    """The first broken hop."""
    return next((h for h in hops if h.verdict == BROKEN), None)
