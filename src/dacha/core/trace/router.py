"""The hops above this host: the router, and what lies beyond it."""

from __future__ import annotations

from dacha.core.trace.hop import BROKEN, FINE, UNTESTED, Hop
from dacha.core.trace.seen.evidence import Evidence, RouterSeen


def keeps_out(r: RouterSeen) -> tuple[str, str] | None:
    """How the router keeps the door shut, and what that means; None where it does not, or where that is not known."""
    leads = f"{r.address or 'outside'}:{r.port}"
    if not r.router:
        return None
    if r.there is False:
        return f"nobody answers for {r.router}", "it is off, or its cable is out"
    if r.shut:
        return f"{r.router} takes no questions any more", "it was started anew, or was told to take none"
    if r.mapped == "forgotten":
        return f"{r.router} has forgotten what it was told", "it was started anew"
    if r.mapped == "lapsed":
        return (
            f"the mapping of {leads} has lapsed",
            "the caretaker, which renews it, did not run, or the router refused",
        )
    if r.mapped == "missing":
        return f"{r.router} does not lead {leads} in", r.trouble or "nobody told it to, or somebody took it away"
    if r.mapped is not None and r.mapped != "there":
        return f"{r.router} leads {leads} to {r.mapped}", "this host has another address now, or somebody changed it"
    return None


def router(e: Evidence) -> Hop | None:
    r = e.router
    if r is None:
        return None
    leads = f"{r.address or 'outside'}:{r.port}"
    # Whoever answers there has to be the guest itself, and not a provider's own server.
    if r.hairpin and r.hairpin.ok and e.through and r.hairpin.seen == e.through.seen:
        return Hop("router", FINE, f"{r.router} leads {leads} in: {r.hairpin.seen}")
    if not r.router:
        return Hop("router", UNTESTED, f"{r.trouble or 'the lab says that it is not asked'}; it needs: {r.by_hand}")
    if found := keeps_out(r):
        seen, means = found
        remedy = {"lapsed": "dacha apply", "forgotten": "dacha apply"}.get(r.mapped or "")
        hand = f"dacha apply\nor in the router by hand: {r.by_hand}"
        return Hop("router", BROKEN, seen, means, "look at the router" if r.there is False else remedy or hand)
    if r.mapped is None or r.trouble:
        return Hop("router", UNTESTED, f"{r.router}: {r.trouble or 'it was not asked yet'}; it needs: {r.by_hand}")
    return Hop("router", FINE, f"{r.router} leads {leads} to {e.place} ({r.speaks})")


def outside_address(e: Evidence) -> Hop | None:
    r = e.router
    if r is None:
        return None
    if r.above:
        means = "another NAT lies above the router, and no mapping can lead through that one"
        remedy = "ask the provider for a public address, or put a machine with one in front"
        return Hop("outside-address", BROKEN, r.above, means, remedy)
    if not r.address:
        return Hop("outside-address", UNTESTED, "the router did not tell it")
    return Hop("outside-address", FINE, f"{r.address} is a public address")
