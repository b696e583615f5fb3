"""The hops at a service itself: its port, what it speaks, whose key it shows, whether it answers beyond its network."""

from __future__ import annotations

from dacha.core.apply.observed import BOOTING_S
from dacha.core.lab.model import CLEAR
from dacha.core.trace.advice import Advice, to_admit, to_look, to_protect, to_serve
from dacha.core.trace.hop import ASIDE, BROKEN, FINE, UNTESTED, Hop
from dacha.core.trace.seen.evidence import (
    OPEN,
    REFUSED,
    REJECTED,
    SILENT,
    UNREACHABLE,
    Certificate,
    ConnectResult,
    Evidence,
)
from dacha.core.trace.seen.inside import other_ports
from dacha.core.trace.seen.questions import LISTENERS, SERVICES
from dacha.core.trace.told import why_mute, why_not_beyond, why_shut, why_silent
from dacha.core.units import show_duration


def touched(e: Evidence) -> ConnectResult | None:
    """The service itself: asked directly, or in user mode through the only way there is."""
    return e.through if e.way == "user" else e.direct


# First words that took longer (seconds) are said to be slow.
SLOW_S = 2.0


def wordless(touch: ConnectResult | None) -> bool:
    """True for a connection that was accepted and on which nothing was said."""
    return touch is not None and touch.how == OPEN and not touch.ok and touch.seen == "no answer"


def mute(e: Evidence, touch: ConnectResult | None) -> bool:
    """True when the door is of no known protocol, and what was touched waits for its client to speak first."""
    return e.service == "tcp" and touch is not None and touch.how == OPEN and touch.seen == "no answer"


def forward(e: Evidence) -> Hop:
    if e.taken:
        means = "another program's rule takes the port first"
        return Hop("forward", BROKEN, f"{e.taken[0]} leads it elsewhere", means, e.taken[1])
    if e.forward is None:
        return Hop("forward", UNTESTED, e.untold or "its process does not say which doors it has open")
    if not e.forward:
        if e.held_by:
            remedy = (
                f"end that program, or let the door have another port: dacha door edit {e.guest} {e.door} --port PORT"
            )
            return Hop(
                "forward", BROKEN, f"the port is held by {e.held_by}", "another program has the host port", remedy
            )
        return Hop("forward", BROKEN, "its process has no such forward open", "it was closed by hand", "dacha apply")
    return Hop("forward", FINE, f"{e.place} leads into the guest")


def service(e: Evidence) -> Hop:
    touch, at = touched(e), f"port {e.port}"
    if mute(e, touch):
        if e.way == "user":
            # QEMU accepts before the guest does.
            return Hop("service", UNTESTED, "the door accepts; whether the guest does, only its client can tell")
        return Hop("service", FINE, f"{at} is open")
    if touch is None:
        return Hop("service", UNTESTED, e.untold or "this host cannot ask it")
    young = e.since_s is not None and e.since_s < BOOTING_S and not e.booted
    # A server is installed only where the guest itself said that it has none.
    known = e.inside is not None and e.inside.knows(SERVICES) and e.inside.managed and not e.inside.units
    serve = to_serve(e.service, e.system) if known else to_look(e.service, e.system)
    if touch.how == REFUSED or touch.seen == "closes at once":
        elsewhere = e.elsewhere or tuple(p for p in other_ports(e.inside, e.service) if p != e.port)
        if elsewhere:
            where = ", ".join(map(str, elsewhere))
            remedy = f"dacha door edit {e.guest} {e.door} --to {elsewhere[0]}, then dacha apply\n"
            remedy += f"or let it listen on {e.port}"
            return Hop(
                "service", BROKEN, f"{at} refuses; {e.service} answers on {where}", "it is on another port", remedy
            )
        if found := _told_inside(e, f"{at} refuses", serve):
            return found
        means = "nothing listens there: its server does not run, or only on the guest's own loopback"
        if e.inside and e.inside.knows(LISTENERS) and not any(x.port == e.port for x in e.inside.listeners):
            means = "the guest says that nothing listens on that port: its server does not run, or is not installed"
        if young:
            means = "nothing listens there yet, or its server does not run"
        return Hop("service", BROKEN, f"{at} refuses connections", means, told_to(e, serve))
    if touch.how == REJECTED:
        if found := _told_inside(e, f"{at} is refused by a firewall's message", to_admit(e.port, e.system)):
            return found
        remedy = told_to(e, to_admit(e.port, e.system))
        return Hop(
            "service", BROKEN, f"{at} is refused by a firewall's message", "a firewall in the guest shuts it", remedy
        )
    if touch.how in (SILENT, UNREACHABLE) or (touch.how == OPEN and not touch.ok and touch.seen == "no answer"):
        if wordless(touch) and e.arrived:
            return Hop("service", FINE, f"{at} is open")
        if found := _told_inside(e, f"{at} is silent", to_admit(e.port, e.system)):
            return found
        link = why_silent(e) if e.way == "user" else None
        if link and link.advice:
            return Hop(
                "service", BROKEN, f"no answer through the door; {link.seen}", link.means, told_to(e, link.advice)
            )
        if e.way == "user":
            means = "its system is not up yet, has another address, or a firewall in it drops what comes"
            return Hop("service", BROKEN, "no answer through the door", means, f"dacha console {e.guest}")
        if touch.how == OPEN:
            return Hop("service", FINE, f"{at} is open")
        means = "a firewall in the guest drops what comes, or its system hangs"
        remedy = told_to(e, to_admit(e.port, e.system))
        return Hop("service", BROKEN, f"{at} is silent: neither yes nor no", means, remedy)
    return Hop("service", FINE, f"{at} is open")


def told_to(e: Evidence, advice: Advice) -> str:
    """What to do in the guest, by whichever way a person gets in."""
    return advice.said(e.guest, e.by)


def _told_inside(e: Evidence, seen: str, otherwise: Advice) -> Hop | None:
    """The broken service with the cause that the guest's own agent tells; `otherwise` is what to do where that names
    nothing."""
    told = why_shut(e.inside, e.service, e.port)
    if told is None:
        return None
    means = told.means or "nothing listens there"
    return Hop("service", BROKEN, f"{seen}; {told.seen}", means, told_to(e, told.advice or otherwise))


def protocol(e: Evidence) -> Hop:
    touch = touched(e)
    if touch is None or touch.how != OPEN:
        return Hop("protocol", UNTESTED, "the service could not be asked")
    if mute(e, touch):
        return Hop("protocol", UNTESTED, "it waits for its client to speak; service = … says what it should be")
    if touch.ok:
        if touch.after_s > SLOW_S:
            means = "the guest is slow, or busy: clients may give up before it answers"
            seen = f"{touch.seen}, after {show_duration(touch.after_s)}: it is slow"
            return Hop("protocol", ASIDE, seen, means, f"dacha console {e.guest}, then see what it is busy with: top")
        return Hop("protocol", FINE, touch.seen)
    told = why_mute(e.inside, e.service, e.port)
    if told and told.advice:
        seen = touch.seen
        if wordless(touch):
            seen = f"it accepts, and said nothing for {show_duration(touch.after_s)}"
        return Hop("protocol", BROKEN, f"{seen}; {told.seen}", told.means, told_to(e, told.advice))
    if wordless(touch):
        seen = f"it accepts, and said nothing for {show_duration(touch.after_s)}"
        means = f"it is slow, or what listens there is no {e.service} server, or it hangs"
        remedy = f"to wait longer: dacha trace {e.guest} {e.door} --wait 60s\n"
        remedy += f"dacha console {e.guest}, then see what has port {e.port}: ss -ltnp"
        return Hop("protocol", BROKEN, seen, means, remedy)
    means = f"what listens there is no {e.service} server, or it hangs"
    remedy = f"dacha console {e.guest}, then see what has port {e.port}: ss -ltnp"
    return Hop("protocol", BROKEN, touch.seen or "it says nothing", means, remedy)


def key(e: Evidence) -> Hop | None:
    if e.key is None:
        return None
    if e.key:
        return Hop("key", FINE, "it has the key that Dacha made for it")
    means = "its key was made anew inside, or somebody else answers for it"
    remedy = f"dacha guest first-boot {e.guest} --again, then dacha restart {e.guest}\n"
    remedy += "gives it the lab's key again; or if you know that the new one is right: "
    remedy += f"dacha guest host-key {e.guest} --accept"
    return Hop("key", BROKEN, "another host key than the lab's answers", means, remedy)


def security(e: Evidence) -> Hop | None:
    """What anybody on the way can read. It lets people in, so it is beside the question."""
    touch = touched(e)
    if touch is None or not touch.ok:
        return None
    if e.service == "rdp" and "old security" in touch.seen:
        means = "it can be read and changed on the way, and whoever comes in is not checked first"
        remedy = told_to(e, to_protect(e.system))
        return Hop("security", ASIDE, "it takes RDP's old security only", means, remedy)
    if e.origin == "outside" and e.service in CLEAR:
        means = "all that passes, passwords too, can be read on the way"
        remedy = f"dacha door edit {e.guest} {e.door} --from host, and enter it through an ssh door"
        return Hop("security", ASIDE, f"{e.service} from outside is not encrypted", means, remedy)
    return None


def certificate_words(c: Certificate, now: float) -> tuple[bool, str]:
    """Whether a certificate holds now (Unix seconds), and what it is."""
    who = f"{c.version}, for {c.name}"
    if now > c.ends:
        return False, f"{who}, expired {show_duration(now - c.ends)} ago"
    if now < c.begins:
        return False, f"{who}, not valid yet"
    own = ", signed by itself: clients ask once" if c.own else ""
    return True, f"{who}, for {show_duration(c.ends - now)} more{own}"


def certificate(e: Evidence) -> Hop | None:
    if e.certificate is None:
        return None
    holds, seen = certificate_words(e.certificate, e.now)
    if holds:
        return Hop("certificate", FINE, seen)
    means = "clients warn, or refuse" + (": is the guest's clock right?" if e.now < e.certificate.begins else "")
    return Hop("certificate", ASIDE, seen, means, f"make it anew in {e.guest}")


def size(e: Evidence) -> Hop | None:
    """Whether packets as large as the connection's come through: where large ones vanish, it hangs later."""
    largest = e.direct.largest if e.direct and e.direct.ok else 0
    if e.sizes is None or not largest:
        return None
    if not e.sizes:
        return Hop("size", UNTESTED, "it answers no echoes, so sizes cannot be tried")
    if largest in e.sizes:
        return Hop("size", FINE, f"packets of {largest} bytes come through")
    tap = f"ip link show {e.carried.name}" if e.carried else "ip link"
    means = "a link on the way takes smaller ones only and nobody is told: connections hang once much is sent"
    remedy = f"let all links have one mtu: {tap}, its bridge, and in the guest: ip link"
    return Hop("size", BROKEN, f"packets of {largest} bytes vanish, {max(e.sizes)} come through", means, remedy)


def reply(e: Evidence) -> Hop | None:
    if e.reply is None or e.direct is None or not e.direct.ok:
        return None
    if e.reply.how in (SILENT, UNREACHABLE):
        means = "the guest sends answers beyond its network nowhere: it has a wrong gateway or none"
        told = why_not_beyond(e)
        remedy = f"dacha console {e.guest}, then: ip route; the gateway is in: dacha network show {e.network}"
        if told:
            means = f"{means} ({told.seen or told.means})"
            remedy = told_to(e, told.advice) if told.advice else remedy
        return Hop("reply", BROKEN, "asked from another network's address it stays silent", means, remedy)
    return Hop("reply", FINE, "answers to other networks too")
