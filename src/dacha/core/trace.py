"""The way to one service, hop by hop: from what was seen on the host to a verdict on each, its cause and its mend.

Pure: what was seen is an `Evidence`, gathered elsewhere and all at once, so that a hop may be judged by what others
showed. A hop is broken only where something was seen that keeps clients out.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

from dacha.core.door_plan import ORIGIN_WORDS
from dacha.core.evidence import OPEN, REFUSED, REJECTED, SILENT, UNREACHABLE, Evidence, RouterSeen, Touch
from dacha.core.mends import to_admit, to_serve
from dacha.core.units import show_duration

FINE, BROKEN, UNTESTED = "fine", "broken", "not tested"
# Every hop's stable name, in the order of the way, with what a person calls it.
HOPS = {
    "lab-file": "lab file", "applied": "applied", "guest": "guest", "boot": "boot", "adapter": "adapter",
    "address": "address", "neighbour": "link", "route": "route", "forward": "forward", "service": "service",
    "protocol": "protocol", "key": "host key", "reply": "reply path", "door-rule": "door rule",
    "forwarding": "forwarding", "firewall": "firewalls", "sources": "sources", "lan-address": "LAN address",
    "router": "router", "outside-address": "outside", "door": "the door",
}  # fmt: skip
# A guest that was started this recently may not be through with booting.
BOOTING_S = 180.0


class Hop(NamedTuple):
    """One hop: what was seen, and for a broken one what it means and what to do."""

    name: str
    verdict: str
    seen: str
    means: str = ""
    mend: str = ""


def judge(e: Evidence) -> list[Hop]:
    """Every hop of the way in its order."""
    return [hop for hop in _hops(e) if hop is not None]


def broken(hops: list[Hop]) -> Hop | None:
    """The first broken hop."""
    return next((h for h in hops if h.verdict == BROKEN), None)


def _hops(e: Evidence) -> Iterator[Hop | None]:
    yield _lab_file(e)
    yield _applied(e)
    yield _guest(e)
    yield _boot(e)
    if e.way == "user":
        yield _forward(e)
    else:
        yield _adapter(e)
        yield _address(e)
        yield _neighbour(e)
        yield _route(e)
    yield _service(e)
    yield _protocol(e)
    yield _key(e)
    if e.way == "kernel":
        yield _reply(e)
        yield _door_rule(e)
        yield _forwarding(e)
    yield _firewall(e)
    if e.way == "kernel":
        yield _sources(e)
    if e.origin != "host" and e.way != "own":
        yield _lan_address(e)
    if e.router:
        yield _router(e, e.router)
        yield _outside_address(e.router)
    yield _door(e)


def _lab_file(e: Evidence) -> Hop:
    if e.lab_error:
        what, remedy = e.lab_error
        return Hop("lab-file", BROKEN, what, "the lab cannot be applied as it is written", remedy)
    return Hop("lab-file", FINE, f"door {e.door} from {ORIGIN_WORDS[e.origin]}")


def _applied(e: Evidence) -> Hop:
    if e.not_applied:
        return Hop("applied", BROKEN, e.not_applied, "the file was edited since it was last applied", "dacha apply")
    return Hop("applied", FINE, "nothing of this door is left to apply")


def _guest(e: Evidence) -> Hop:
    start = f"dacha start {e.guest}"
    if e.state == "off":
        why = "it was stopped, and left off" if e.left_off else "it is not running: it ended, or was never started"
        return Hop("guest", BROKEN, "it is off", why, start)
    if e.state == "hung":
        means = "its process is held from outside, or hangs"
        return Hop("guest", BROKEN, "its monitor does not answer", means, f"dacha restart {e.guest} --force")
    if e.status in ("guest-panicked", "internal-error", "io-error"):
        means = {"io-error": "its disk could not be written: is its storage full?"}.get(e.status, "its system crashed")
        return Hop("guest", BROKEN, f"it stands still: {e.status}", means, f"dacha restart {e.guest} --force")
    if e.state == "paused":
        return Hop("guest", BROKEN, "it is paused", "its processors are held", f"dacha resume {e.guest}")
    age = f" for {show_duration(e.since_s)}" if e.since_s is not None else ""
    return Hop("guest", FINE, f"on{age}")


def _answers(e: Evidence) -> bool:
    """True when the service itself was heard, by whichever path."""
    return any(t is not None and t.ok for t in (e.direct, e.through))


def _boot(e: Evidence) -> Hop:
    console = f"dacha console {e.guest} --record"
    if e.panic and not _answers(e):
        return Hop("boot", BROKEN, e.panic, "its kernel has given up", f"{console}\ndacha restart {e.guest} --force")
    if e.booted or _answers(e):
        return Hop("boot", FINE, e.booted or "it serves")
    touch = _touched(e)
    heard = e.seen_age_s is not None and e.since_s is not None and e.seen_age_s < e.since_s
    if heard or e.answered or (touch and (touch.how in (REFUSED, REJECTED) or touch.seen == "closes at once")):
        return Hop("boot", FINE, "its system is on the network")
    waits = e.address is None and e.caretaker is False  # however long it has been on, nobody gives it an address
    if e.state == "on" and e.since_s is not None and e.since_s < BOOTING_S and not waits:
        seen = f"started {show_duration(e.since_s)} ago, and its console shows no end of it"
        return Hop("boot", BROKEN, seen, "it is still booting", f"wait; what it does: {console}")
    return Hop("boot", UNTESTED, "its console does not show whether it has finished booting")


def _adapter(e: Evidence) -> Hop:
    c = e.carried
    if c is None:
        return Hop("adapter", UNTESTED, e.untold or "its link could not be looked at")
    if not c.there:
        means = "somebody removed it, or this host was started anew"
        return Hop("adapter", BROKEN, f"its link {c.name} is gone", means, f"dacha apply, then dacha restart {e.guest}")
    if c.wanted and not c.bridge_there:
        return Hop("adapter", BROKEN, f"the bridge {c.wanted} is gone", "nothing carries the network", "dacha apply")
    if c.wanted and not c.bridge_up:
        return Hop("adapter", BROKEN, f"the bridge {c.wanted} is down", "nothing carries the network", "dacha apply")
    if c.wanted and c.master != c.wanted:
        seen = f"{c.name} is a port of {c.master}" if c.master else f"{c.name} is a port of no bridge"
        return Hop("adapter", BROKEN, f"{seen}, not of {c.wanted}", "it was taken off its network", "dacha apply")
    if not c.up:
        return Hop("adapter", BROKEN, f"{c.name} is down", "nothing of the guest passes", "dacha apply")
    if not c.held and e.state == "on":
        means = "the guest holds on to a link that was removed"
        return Hop("adapter", BROKEN, f"no process has {c.name} open", means, f"dacha restart {e.guest}")
    return Hop("adapter", FINE, f"plugged in, on network {e.network}")


def _address(e: Evidence) -> Hop:
    age = f", seen on the wire {show_duration(e.seen_age_s)} ago" if e.seen_age_s is not None else ""
    if e.address is None:
        if e.caretaker is False:
            seen, means = "it has no address that is known", "the caretaker, which hands them out, does not run"
            return Hop("address", BROKEN, seen, means, "dacha apply")
        means = "it did not ask for one, or nobody gave it one"
        return Hop("address", BROKEN, "it has no address that is known", means, f"dacha console {e.guest}")
    other = e.seen_address if e.seen_address != e.address else None
    if other and not e.answered and not _answers(e):
        seen = f"it uses {other}, and {e.address} is planned{age}"
        mend = f"dacha guest edit {e.guest} --address {e.network}={other}\nor set {e.address} in the guest"
        return Hop("address", BROKEN, seen, "its system was told another address", mend)
    how = "as handed out" if e.handed_out else "as planned"
    return Hop("address", FINE, f"{e.address} {how}{age if not other else ''}")


def _neighbour(e: Evidence) -> Hop:
    if e.answered is None:
        return Hop("neighbour", UNTESTED, e.untold or "this host is not on that network")
    others = [h for h in e.answered if h != e.hardware]
    if others:
        seen = f"{e.address} is answered for by {', '.join(others)}" + (" too" if e.hardware in e.answered else "")
        return Hop("neighbour", BROKEN, seen, "two machines have one address", "give one of them another")
    if not e.answered:
        if _answers(e):
            return Hop("neighbour", UNTESTED, "it does not answer ARP, and yet it serves")
        means = "its adapter is unplugged, not set up, or has another address"
        mend = f"dacha console {e.guest}, then look: ip address"
        return Hop("neighbour", BROKEN, f"nobody answers for {e.address} on {e.network}", means, mend)
    return Hop("neighbour", FINE, f"answers in {e.answered_ms:.1f} ms")


def _route(e: Evidence) -> Hop | None:
    if e.route is None:
        return None
    link, wanted = e.route
    if link != wanted:
        means = "another route of this host leads the address elsewhere"
        mend = f"ip route get {e.address}\nip route shows the one that is in the way"
        return Hop("route", BROKEN, f"{e.address} leads to {link}, not to {wanted}", means, mend)
    return Hop("route", FINE, f"by {link}")


def _forward(e: Evidence) -> Hop:
    if e.forward is None:
        return Hop("forward", UNTESTED, e.untold or "its process does not say which doors it has open")
    if not e.forward:
        if e.held_by:
            mend = (
                f"end that program, or let the door have another port: dacha door edit {e.guest} {e.door} --port PORT"
            )
            return Hop("forward", BROKEN, f"the port is held by {e.held_by}", "another program has the host port", mend)
        return Hop("forward", BROKEN, "its process has no such forward open", "it was closed by hand", "dacha apply")
    return Hop("forward", FINE, f"{e.place} leads into the guest")


def _touched(e: Evidence) -> Touch | None:
    """The service itself: asked directly, or in user mode through the only way there is."""
    return e.through if e.way == "user" else e.direct


def _service(e: Evidence) -> Hop:
    touch, at = _touched(e), f"port {e.port}"
    if touch is None:
        return Hop("service", UNTESTED, e.untold or "this host cannot ask it")
    young = e.since_s is not None and e.since_s < BOOTING_S and not e.booted
    serve = to_serve(e.service, e.system)
    if touch.how == REFUSED or touch.seen == "closes at once":
        if e.elsewhere:
            where = ", ".join(map(str, e.elsewhere))
            mend = f"dacha door edit {e.guest} {e.door} --to {e.elsewhere[0]}\nor let it listen on {e.port}"
            return Hop(
                "service", BROKEN, f"{at} refuses; {e.service} answers on {where}", "it is on another port", mend
            )
        means = "nothing listens there: its server does not run, or only on the guest's own loopback"
        if young:
            means = "nothing listens there yet, or its server does not run"
        return Hop("service", BROKEN, f"{at} refuses connections", means, f"dacha console {e.guest}, then: {serve}")
    if touch.how == REJECTED:
        mend = f"dacha console {e.guest}, then: {to_admit(e.port, e.system)}"
        return Hop(
            "service", BROKEN, f"{at} is refused by a firewall's message", "a firewall in the guest shuts it", mend
        )
    if touch.how in (SILENT, UNREACHABLE) or (touch.how == OPEN and not touch.ok and touch.seen == "no answer"):
        if e.way == "user":
            means = "its system is not up yet, has another address, or a firewall in it drops what comes"
            return Hop("service", BROKEN, "no answer through the door", means, f"dacha console {e.guest}")
        if touch.how == OPEN:
            return Hop("service", FINE, f"{at} is open")
        means = "a firewall in the guest drops what comes, or its system hangs"
        mend = f"dacha console {e.guest}, then: {to_admit(e.port, e.system)}"
        return Hop("service", BROKEN, f"{at} is silent: neither yes nor no", means, mend)
    return Hop("service", FINE, f"{at} is open")


def _protocol(e: Evidence) -> Hop:
    touch = _touched(e)
    if touch is None or touch.how != OPEN:
        return Hop("protocol", UNTESTED, "the service could not be asked")
    if touch.ok:
        return Hop("protocol", FINE, touch.seen)
    means = f"what listens there is no {e.service} server, or it hangs"
    mend = f"dacha console {e.guest}, then see what has port {e.port}: ss -ltnp"
    return Hop("protocol", BROKEN, touch.seen or "it says nothing", means, mend)


def _key(e: Evidence) -> Hop | None:
    if e.key is None:
        return None
    if e.key:
        return Hop("key", FINE, "it has the key that Dacha made for it")
    means = "its key was made anew inside, or somebody else answers for it"
    mend = f"look at its console: dacha console {e.guest}\nto give it the lab's key again: dacha restart {e.guest}"
    return Hop("key", BROKEN, "another host key than the lab's answers", means, mend)


def _reply(e: Evidence) -> Hop | None:
    if e.reply is None or e.direct is None or not e.direct.ok:
        return None
    if e.reply.how in (SILENT, UNREACHABLE):
        means = "the guest sends answers beyond its network nowhere: it has a wrong gateway or none"
        mend = f"dacha console {e.guest}, then: ip route; the gateway is in: dacha network show {e.network}"
        return Hop("reply", BROKEN, "asked from another network's address it stays silent", means, mend)
    return Hop("reply", FINE, "answers to other networks too")


def _door_rule(e: Evidence) -> Hop:
    if e.rule is None:
        return Hop("door-rule", UNTESTED, e.untold or "the rules could not be read")
    if e.rule == "missing":
        return Hop("door-rule", BROKEN, "its rule is gone from the kernel", "somebody removed it", "dacha apply")
    if e.rule != "there":
        return Hop("door-rule", BROKEN, f"its rule leads to {e.rule}", "somebody changed it", "dacha apply")
    if e.rules_changed and e.through is not None and not e.through.ok:
        return Hop(
            "door-rule", BROKEN, "the lab's rules are not as they were loaded", "somebody changed them", "dacha apply"
        )
    return Hop("door-rule", FINE, f"{e.place} leads to {e.address}, port {e.port}")


def _forwarding(e: Evidence) -> Hop:
    if e.forwarding is None:
        return Hop("forwarding", UNTESTED, "the setting could not be read")
    if not e.forwarding:
        means = "this host passes nothing on between its networks"
        return Hop("forwarding", BROKEN, "net.ipv4.ip_forward is 0", means, "dacha apply")
    return Hop("forwarding", FINE, "on")


def _firewall(e: Evidence) -> Hop:
    if e.dropped:
        what, shown = e.dropped
        mend = f"{shown}\nlet it in there; Dacha touches no rules of others"
        return Hop("firewall", BROKEN, f"{what} drops it", "another firewall on this host shuts the way", mend)
    if e.untold:
        return Hop("firewall", UNTESTED, e.untold)
    return Hop("firewall", FINE, "nothing else on this host drops it")


def _sources(e: Evidence) -> Hop:
    limits = ", ".join(e.allowed)
    if e.admitted is False:
        mend = f"dacha door edit {e.guest} {e.door} --allow {e.asker}"
        return Hop("sources", BROKEN, f"admits {limits}, not {e.asker}", "the door is limited", mend)
    return Hop("sources", FINE, f"admits {limits}" if limits else "admits everybody")


def _lan_address(e: Evidence) -> Hop:
    if not e.lan_address:
        means = "nobody on the LAN can find this host"
        return Hop("lan-address", BROKEN, "this host has no address on a LAN", means, "ip address; is its cable in?")
    return Hop("lan-address", FINE, f"this host is {e.lan_address}")


def _router(e: Evidence, r: RouterSeen) -> Hop:
    leads = f"{r.address or 'outside'}:{r.port}"
    if r.hairpin and r.hairpin.ok:
        return Hop("router", FINE, f"{r.router} leads {leads} in: {r.hairpin.seen}")
    hand = f"in the router by hand: {r.by_hand}"
    if not r.router:
        return Hop("router", UNTESTED, f"{r.trouble or 'the lab says that it is not asked'}; it needs: {r.by_hand}")
    if r.there is False:
        means = "it is off, or its cable is out"
        return Hop("router", BROKEN, f"nobody answers for {r.router}", means, "look at the router")
    if r.mapped == "forgotten":
        means = "it was started anew"
        return Hop("router", BROKEN, f"{r.router} has forgotten what it was told", means, "dacha apply")
    if r.mapped == "lapsed":
        means = "the caretaker, which renews it, did not run, or the router refused"
        return Hop("router", BROKEN, f"the mapping of {leads} has lapsed", means, "dacha apply")
    if r.mapped == "missing":
        means = r.trouble or "nobody told it to, or somebody took it away"
        return Hop("router", BROKEN, f"{r.router} does not lead {leads} in", means, f"dacha apply, or {hand}")
    if r.mapped is not None and r.mapped != "there":
        means = "this host has another address now, or somebody changed it"
        return Hop("router", BROKEN, f"{r.router} leads {leads} to {r.mapped}", means, f"dacha apply, or {hand}")
    if r.mapped is None or r.trouble:
        return Hop("router", UNTESTED, f"{r.router}: {r.trouble or 'it was not asked yet'}; it needs: {r.by_hand}")
    return Hop("router", FINE, f"{r.router} leads {leads} to {e.place} ({r.speaks})")


def _outside_address(r: RouterSeen) -> Hop:
    if r.above:
        means = "another NAT lies above the router, and no mapping can lead through that one"
        mend = "ask the provider for a public address, or put a machine with one in front"
        return Hop("outside-address", BROKEN, r.above, means, mend)
    if not r.address:
        return Hop("outside-address", UNTESTED, "the router did not tell it")
    return Hop("outside-address", FINE, f"{r.address} is a public address")


def _door(e: Evidence) -> Hop:
    if e.through is None:
        return Hop("door", UNTESTED, e.untold or "this host cannot enter it itself")
    if e.through.ok:
        return Hop("door", FINE, f"{e.place}: {e.through.seen}")
    said = e.through.seen or e.through.how
    means = "every hop before is fine, and yet nothing comes through"
    return Hop("door", BROKEN, f"{e.place}: {said}", means, "dacha trace … --all shows what could not be tested")
