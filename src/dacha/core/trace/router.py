"""The hops beyond this host: the router, and what is in front of it."""

from __future__ import annotations

from dacha.core.trace.hop import BROKEN, FINE, UNTESTED, Hop
from dacha.core.trace.seen.evidence import Evidence
from dacha.core.trace.seen.results import RouterSeen


def keeps_out(r: RouterSeen) -> tuple[str, str] | None:
    """How the router blocks the door, and what that means; None if it does not, or if that is unknown."""
    leads = f"{r.address or 'outside'}:{r.port}"
    if not r.router:
        return None
    if r.there is False:
        return f"no machine answers ARP for {r.router}", "it is off, or its cable is unplugged"
    if r.shut:
        return (
            f"{r.router} no longer accepts port mapping requests",
            "it was restarted, or its port mapping service was disabled",
        )
    if r.mapped == "forgotten":
        return f"{r.router} has lost its port mappings", "it was restarted"
    if r.mapped == "lapsed":
        return (
            f"the mapping of {leads} has expired",
            "the caretaker, which renews it, was not running, or the router refused",
        )
    if r.mapped == "missing":
        return f"{r.router} does not forward {leads}", r.trouble or "the mapping was never requested, or it was removed"
    if r.mapped is not None and r.mapped != "there":
        return (
            f"{r.router} forwards {leads} to {r.mapped}",
            "this host's address has changed, or the mapping was changed",
        )
    return None


def router(e: Evidence) -> Hop | None:
    r = e.router
    if r is None:
        return None
    leads = f"{r.address or 'outside'}:{r.port}"
    # The answer must come from the guest itself, not from a provider's server.
    if r.hairpin and r.hairpin.ok and e.tried.through and r.hairpin.seen == e.tried.through.seen:
        return Hop("router", FINE, f"{r.router} forwards {leads}: {r.hairpin.seen}")
    if not r.router:
        return Hop(
            "router",
            UNTESTED,
            f"{r.trouble or 'the lab file disables requests to it (router = off)'}; it needs: {r.by_hand}",
        )
    if found := keeps_out(r):
        seen, means = found
        remedy = {"lapsed": "dacha apply", "forgotten": "dacha apply"}.get(r.mapped or "")
        hand = f"dacha apply\nor enter it in the router by hand: {r.by_hand}"
        if r.mapped == "missing" and r.trouble:
            # It was requested, and the router did not do it.
            settings = "or change its settings for port mappings (PCP, NAT-PMP or UPnP), then: dacha apply"
            hand = f"enter it in the router by hand: {r.by_hand}\n{settings}"
        return Hop("router", BROKEN, seen, means, "check the router" if r.there is False else remedy or hand)
    if r.mapped is None or r.trouble:
        return Hop("router", UNTESTED, f"{r.router}: {r.trouble or 'not requested yet'}; it needs: {r.by_hand}")
    return Hop("router", FINE, f"{r.router} forwards {leads} to {e.place} ({r.speaks})")


def outside_address(e: Evidence) -> Hop | None:
    r = e.router
    if r is None:
        return None
    if r.above:
        means = "the router itself is behind another NAT, which Dacha cannot configure"
        remedy = "ask the provider for a public address, or use a machine with a public address as a relay"
        return Hop("outside-address", BROKEN, r.above, means, remedy)
    if not r.address:
        return Hop("outside-address", UNTESTED, "the router did not report it")
    return Hop("outside-address", FINE, f"{r.address} is a public address")
