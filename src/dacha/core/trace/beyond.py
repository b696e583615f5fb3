"""The hops beyond a service that answers: packets of full size, replies to other networks."""

from __future__ import annotations

from dacha.core.trace.causes.advice import RULES_THERE, Advice
from dacha.core.trace.causes.path import why_large_are_lost, why_not_beyond
from dacha.core.trace.hop import BROKEN, FINE, UNTESTED, Hop
from dacha.core.trace.seen.evidence import Evidence
from dacha.core.trace.seen.results import SILENT, UNREACHABLE
from dacha.core.trace.service import told_to


def large_are_lost(e: Evidence) -> bool:
    """True if small packets come back, and those of the connection's full size do not."""
    heard, sizes = e.tried.direct, e.tried.sizes
    return bool(sizes and heard and heard.ok and heard.largest and heard.largest not in sizes)


def size(e: Evidence) -> Hop | None:
    """Whether full-size packets get through; if they are dropped, the connection stalls later."""
    heard, sizes = e.tried.direct, e.tried.sizes
    largest = heard.largest if heard and heard.ok else 0
    if sizes is None or not largest:
        return None
    if not sizes:
        return Hop("size", UNTESTED, "it does not answer ping, so packet sizes cannot be tested")
    if not large_are_lost(e):
        return Hop("size", FINE, f"packets of {largest} bytes pass")
    seen = f"packets of {largest} bytes are lost, {max(sizes)} pass: connections hang as soon as large ones are sent"
    if told := why_large_are_lost(e, largest):
        return Hop("size", BROKEN, seen, told.means, told_to(e, told.advice or RULES_THERE))
    tap = f"ip link show {e.link.carried.name}" if e.link.carried else "ip link"
    means = "one of: a link on the path has a smaller MTU and sends no ICMP error; a firewall drops large packets"
    remedy = f"compare the MTU of all links: {tap}, its bridge, and in the guest: ip link\n"
    return Hop("size", BROKEN, seen, means, remedy + f"then the rules of the guest: {told_to(e, RULES_THERE)}")


def reply(e: Evidence) -> Hop | None:
    if e.tried.reply is None or e.tried.direct is None or not e.tried.direct.ok:
        return None
    if e.tried.reply.how in (SILENT, UNREACHABLE):
        seen = "it does not answer clients from other networks"
        told = why_not_beyond(e)
        if told and told.advice and told.seen:
            return Hop("reply", BROKEN, f"{seen}; {told.seen}", told.means, told_to(e, told.advice))
        right = f" (its gateway should be {e.net.gateway})" if e.net.gateway else ""
        means = f"one of: it has a wrong default gateway, or none{right}; a rule of its firewall drops its replies"
        compare = Advice(words=f"ip route; compare its gateway with: dacha network show {e.network}")
        return Hop("reply", BROKEN, seen, means, told_to(e, compare))
    return Hop("reply", FINE, "answers clients from other networks, too")
