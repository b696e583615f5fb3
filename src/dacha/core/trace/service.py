"""The hops at the service itself: port, protocol, host key, replies beyond its network."""

from __future__ import annotations

import shlex

from dacha.core.apply.observed import BOOTING_S
from dacha.core.heard import Heard
from dacha.core.lab.kinds import CLEAR
from dacha.core.trace.causes.advice import (
    BUSY,
    RULES_THERE,
    SERVER_LOG,
    Advice,
    to_admit,
    to_find,
    to_look,
    to_protect,
    to_see_shaping,
    to_serve,
)
from dacha.core.trace.causes.path import why_silent, why_unanswered
from dacha.core.trace.causes.port import TURNED_AWAY, serves, why_closing, why_mute, why_shut
from dacha.core.trace.hop import ASIDE, BROKEN, FINE, UNTESTED, Hop
from dacha.core.trace.seen.evidence import Evidence
from dacha.core.trace.seen.inside import other_ports
from dacha.core.trace.seen.questions import LISTENERS, NAMED_SERVERS, SERVICES
from dacha.core.trace.seen.results import OPEN, REFUSED, REJECTED, SILENT, UNREACHABLE, Certificate, ConnectResult
from dacha.core.trace.unserved import not_served
from dacha.core.units import show_duration


def touched(e: Evidence) -> ConnectResult | None:
    """The result of connecting to the service: directly, or in user mode through the only way there is."""
    return e.tried.through if e.way == "user" else e.tried.direct


# A first answer slower than this (seconds) is reported as slow.
SLOW_S = 2.0


def wordless(touch: ConnectResult | None) -> bool:
    """True for an accepted connection on which the service sent nothing."""
    return touch is not None and touch.how == OPEN and touch.heard == Heard.NOTHING


def mute(e: Evidence, touch: ConnectResult | None) -> bool:
    """True if the door's protocol is unknown, and the service waits for its client to send first."""
    return e.service == "tcp" and touch is not None and touch.how == OPEN and touch.heard == Heard.NOTHING


def forward(e: Evidence) -> Hop:
    if e.host.taken:
        means = "another program's rule matches the port first"
        return Hop("forward", BROKEN, f"{e.host.taken[0]} forwards it elsewhere", means, e.host.taken[1])
    if e.tried.forward is None:
        return Hop("forward", UNTESTED, e.gathered.untold or "QEMU did not report its open forwards")
    if not e.tried.forward:
        if e.tried.held_by:
            remedy = f"end that program, or choose another port: dacha door edit {e.guest} {e.door} --port PORT"
            return Hop(
                "forward",
                BROKEN,
                f"the port is in use by {e.tried.held_by}",
                "another program uses the host port",
                remedy,
            )
        return Hop("forward", BROKEN, "QEMU has no such forward open", "it was closed by hand", "dacha apply")
    return Hop("forward", FINE, f"{e.place} forwards into the guest")


def service(e: Evidence) -> Hop:
    touch = touched(e)
    if mute(e, touch) and e.way == "user":
        # QEMU accepts before the guest does.
        return Hop(
            "service", UNTESTED, "QEMU accepts connections; whether the guest does is not visible from this host"
        )
    if touch is None:
        return Hop("service", UNTESTED, e.gathered.untold or "it cannot be probed from this host")
    if touch.heard == Heard.CLOSED and (e.way != "user" or _serves_all(e)):
        # The guest accepted the connection: the next hop is about what follows. In user mode QEMU accepts all of them,
        # so that only the guest itself can tell.
        return Hop("service", FINE, f"port {e.port} is open")
    if touch.how == REFUSED or touch.heard == Heard.CLOSED:
        return _refusing(e)
    if touch.how == REJECTED:
        seen = f"port {e.port} is rejected by a firewall (ICMP)"
        admit = to_admit(e.port, e.system)
        blocked = Hop("service", BROKEN, seen, "a firewall in the guest blocks it", told_to(e, admit))
        return _told_inside(e, seen, admit) or blocked
    arrived = wordless(touch) and (e.tried.arrived or e.way != "user")
    silent = touch.how in (SILENT, UNREACHABLE) or (wordless(touch) and not mute(e, touch))
    if silent and not (wordless(touch) and e.tried.arrived):
        return _not_responding(e, accepted=arrived)
    return Hop("service", FINE, f"port {e.port} is open" + ("; a moment ago it refused" if e.tried.returned else ""))


def _serves_all(e: Evidence) -> bool:
    """True if the guest reports that a program has the port, and no rule of its own certainly rejects connections."""
    shut = why_shut(e)
    return e.inside is not None and serves(e.inside, e.port) and (shut is None or not shut.proved)


def _refusing(e: Evidence) -> Hop:
    """The service whose port refuses connections, or closes each at once."""
    seen = f"port {e.port} refuses connections"
    if elsewhere := e.tried.elsewhere or tuple(p for p in other_ports(e.inside, e.service) if p != e.port):
        remedy = f"dacha door edit {e.guest} {e.door} --to {elsewhere[0]}, then dacha apply\n"
        remedy += f"or configure the server to listen on {e.port}"
        seen = f"{seen}; {e.service} answers on {', '.join(map(str, elsewhere))}"
        return Hop("service", BROKEN, seen, "the server listens on another port", remedy)
    # A server is installed only if the guest itself reported that it has none.
    told = e.inside is not None and e.inside.knows(SERVICES)
    managed = e.inside is not None and e.inside.managed
    absent = told and managed and e.inside is not None and not e.inside.units
    look = to_look(e.service, e.system, unmanaged=told and not managed)
    serve = to_serve(e.service, e.system) if absent else look
    if found := _told_inside(e, seen, serve):
        return found
    if e.inside and e.way != "user" and serves(e.inside, e.port):
        seen = f"{seen}, although the guest reports that a program listens there"
        means = "one of: a firewall in the guest answers with a reset; the server has just restarted"
        return Hop("service", BROKEN, seen, means, told_to(e, RULES_THERE))
    if e.run.since_s is not None and e.run.since_s < BOOTING_S and not e.run.booted:
        means = "no program listens there yet, or its server is not running"
    elif e.inside and e.inside.knows(LISTENERS) and not any(x.port == e.port for x in e.inside.listeners):
        if e.service not in NAMED_SERVERS:
            return not_served(e, e.inside, seen)
        means = "the guest reports that no program listens on that port: its server is not running, or not installed"
    else:
        means = (
            "one of: no program listens there (its server is not running, or listens only on the guest's loopback); "
            "a firewall in the guest answers with a reset"
        )
        touch = touched(e)
        if touch is not None and touch.how == OPEN:
            seen = f"port {e.port} refuses connections, or its server closes each at once"
            means = f"{means}; its server refuses this host, or has too many clients"
    return Hop("service", BROKEN, seen, means, told_to(e, serve))


def _not_responding(e: Evidence, *, accepted: bool) -> Hop:
    """The service whose port does not respond; `accepted` if the guest itself accepted a connection."""
    seen, admit = f"port {e.port} does not respond", to_admit(e.port, e.system)
    if found := _told_inside(e, seen, admit):
        return found
    if e.way == "user":
        link = why_silent(e)
        seen = "no answer through the door"
        if link and link.proved and link.advice:
            return Hop("service", BROKEN, f"{seen}; {link.seen}", link.means, told_to(e, link.advice))
    elif accepted:
        return Hop("service", FINE, f"port {e.port} is open")
    if told := why_unanswered(e):
        return Hop("service", BROKEN, f"{seen}; {told.seen}", told.means, told_to(e, told.advice or admit))
    if e.inside and serves(e.inside, e.port):
        seen = f"{seen}, although the guest reports that a program listens there"
        means = (
            "its replies do not arrive (routes, neighbour entries); a rule of its firewall drops packets; another "
            "program there drops them (tc, eBPF)"
        )
        shows = "ip route; ip neighbour; nft list ruleset"
        if e.inside.shaped:
            name = shlex.quote(e.inside.shaped[0].rpartition(" ")[2])
            means = f"its traffic control drops them ({', '.join(e.inside.shaped)}); {means}"
            shows = f"tc filter show dev {name} ingress; tc filter show dev {name} egress"
        return Hop("service", BROKEN, seen, f"one of: {means}", told_to(e, Advice(shows)))
    if e.way == "user":
        means = "one of: its system is still starting; it has another address; its firewall drops the packets"
        return Hop("service", BROKEN, seen, means, f"dacha console {e.guest}")
    means = "a firewall in the guest drops the packets; its system hangs; its replies do not arrive"
    if e.link.shaped:
        means, shows = f"one of: {e.link.shaped[0]} drops packets; {means}", to_see_shaping(e.link.shaped[0])
        return Hop("service", BROKEN, seen, means, shows)
    return Hop("service", BROKEN, seen, f"one of: {means}", told_to(e, admit))


def told_to(e: Evidence, advice: Advice) -> str:
    """What to do in the guest, by the means that the user has."""
    return advice.said(e.guest, e.by)


def _told_inside(e: Evidence, seen: str, otherwise: Advice) -> Hop | None:
    """The broken service, with the cause that the guest reports; `otherwise` is the remedy if that names none."""
    told = why_shut(e)
    if told is None:
        return None
    means = told.means or "no program listens there"
    return Hop("service", BROKEN, f"{seen}; {told.seen}", means, told_to(e, told.advice or otherwise))


def protocol(e: Evidence) -> Hop:
    touch = touched(e)
    if touch is None or touch.how != OPEN:
        return Hop("protocol", UNTESTED, "the service could not be probed")
    if mute(e, touch):
        return Hop("protocol", UNTESTED, "the protocol is not known; to have it checked, set `service` in the door")
    if touch.ok:
        if touch.heard == Heard.SERVER_ERROR:
            means = "the path works: the program behind the door reports an error of its own"
            remedy = told_to(e, Advice("journalctl -p warning -n 20 --no-pager"))
            return Hop("protocol", ASIDE, touch.seen, means, remedy)
        if touch.after_s > SLOW_S:
            means = "the guest is slow or busy: clients may time out before it answers"
            seen = f"{touch.seen}, after {show_duration(touch.after_s)} (slow)"
            return Hop("protocol", ASIDE, seen, means, told_to(e, BUSY))
        return Hop("protocol", FINE, touch.seen)
    closing = touch.heard in (Heard.CLOSED, Heard.TURNED_AWAY)
    other = touch.heard == Heard.OTHER
    told = why_closing(e.inside, e.service, e.port) if closing else why_mute(e.inside, e.service, e.port, other=other)
    if told and not told.proved and e.way == "user" and touch.heard == Heard.CLOSED:
        # QEMU accepted the connection, and closes it if the guest refuses.
        told = told._replace(means=f"{told.means}; a firewall in the guest answers with a reset")
    if told and told.advice:
        seen = touch.seen
        if wordless(touch):
            seen = f"it accepts connections, but sent nothing for {show_duration(touch.after_s)}"
        return Hop("protocol", BROKEN, f"{seen}; {told.seen}", told.means, told_to(e, told.advice))
    if wordless(touch):
        seen = f"it accepts connections, but sent nothing for {show_duration(touch.after_s)}"
        means = f"one of: it is slow; it hangs; the program on that port is not a server for {e.service}"
        remedy = f"to wait longer: dacha trace {e.guest} {e.door} --wait 60s\n"
        remedy += told_to(e, to_find(e.port))
        return Hop("protocol", BROKEN, seen, means, remedy)
    if closing:
        if touch.heard == Heard.TURNED_AWAY:
            return Hop("protocol", BROKEN, f"it {touch.seen}", f"one of: {TURNED_AWAY}", told_to(e, SERVER_LOG))
        means = (
            "one of: its server refuses this host; it has too many clients, or restarts; another program has the port"
        )
        return Hop("protocol", BROKEN, "it closes each connection at once", means, told_to(e, to_find(e.port)))
    means = f"the program on that port is not a server for {e.service}{'' if other else ', or it hangs'}"
    return Hop("protocol", BROKEN, touch.seen or "it sends nothing", means, told_to(e, to_find(e.port)))


def key(e: Evidence) -> Hop | None:
    if e.key is None:
        return None
    if e.key:
        return Hop("key", FINE, "its host key is the one that Dacha created")
    means = "its key was regenerated inside, or another machine answers in its place"
    accept = f"if you know that the new key is genuine: dacha guest host-key {e.guest} --accept"
    again = f"dacha guest first-boot {e.guest} --again, then dacha restart {e.guest}\ninstalls the lab's key again; or "
    remedy = f"{again}{accept}" if e.lab.first_boot else accept
    return Hop("key", BROKEN, "the host key differs from the one that Dacha created", means, remedy)


def security(e: Evidence) -> Hop | None:
    """Unencrypted traffic. It blocks no client, so it is a warning."""
    touch = touched(e)
    if touch is None or not touch.ok:
        return None
    if e.service == "rdp" and touch.heard == Heard.RDP_OLD:
        means = "others on the path can read and change the session, and the server is not authenticated"
        remedy = told_to(e, to_protect(e.system))
        return Hop("security", ASIDE, "it supports only the old RDP security", means, remedy)
    if e.origin == "outside" and e.service in CLEAR:
        means = "others on the path can read everything, passwords too"
        remedy = f"dacha door edit {e.guest} {e.door} --from host, and use a tunnel through an ssh door"
        return Hop("security", ASIDE, f"{e.service} from outside is not encrypted", means, remedy)
    return None


def certificate_words(c: Certificate, now: float) -> tuple[bool, str]:
    """Whether a certificate is valid now (Unix seconds), and a description."""
    who = f"{c.version}, for {c.name}"
    if now > c.ends:
        return False, f"{who}, expired {show_duration(now - c.ends)} ago"
    if now < c.begins:
        return False, f"{who}, not valid yet"
    own = ", self-signed: clients ask once" if c.own else ""
    return True, f"{who}, valid for {show_duration(c.ends - now)} more{own}"


def certificate(e: Evidence) -> Hop | None:
    if e.certificate is None:
        return None
    holds, seen = certificate_words(e.certificate, e.now)
    if holds:
        return Hop("certificate", FINE, seen)
    means = "clients warn or refuse" + ("; check the guest's clock" if e.now < e.certificate.begins else "")
    return Hop("certificate", ASIDE, seen, means, f"renew the certificate in {e.guest}")
