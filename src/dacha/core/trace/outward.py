"""The opposite direction: why a guest does not reach something. From inside the guest outwards, hop by hop; the guest's
reports name causes, observations of this host exclude some."""

from __future__ import annotations

from collections.abc import Callable

from dacha.core.endpoint import Endpoint
from dacha.core.network.firewall.matches import Packet
from dacha.core.trace.causes.advice import Advice, to_let_pass
from dacha.core.trace.hop import BROKEN, FINE, UNTESTED, Hop
from dacha.core.trace.host import forwards
from dacha.core.trace.seen.evidence import AGENT, UNKNOWN, kind_of_login
from dacha.core.trace.seen.inside import Inside
from dacha.core.trace.seen.outward import GOT_IN, NOT_TRIED, TIMED_OUT, TURNED_AWAY, Near, Outward
from dacha.core.trace.seen.own_rules import blocking
from dacha.core.trace.seen.questions import LINKS, RULES
from dacha.core.trace.seen.results import OPEN, REFUSED, REJECTED, SILENT
from dacha.core.trace.seen.ways import way_to


def _said(o: Outward, advice: Advice) -> str:
    """A remedy inside the guest, by the way it was queried."""
    return advice.said(o.guest, {"agent": AGENT, "login": kind_of_login(o.inside)}.get(o.by, UNKNOWN))


def judge(o: Outward) -> list[Hop]:
    """Every hop outwards, as far as the evidence goes."""
    hops = []
    for step in _WAY:
        hop = step(o)
        if hop is not None:
            hops.append(hop)
        if hop is not None and hop.verdict == BROKEN:
            break
    return hops


def _guest(o: Outward) -> Hop:
    if o.state != "on":
        remedy = f"dacha {'resume' if o.state == 'paused' else 'start'} {o.guest}"
        return Hop("guest", BROKEN, f"it is {o.state}", "it is not running", remedy)
    return Hop("guest", FINE, "on")


def _inside(o: Outward) -> Hop:
    if not o.by:
        return Hop("inside", UNTESTED, f"the guest could not be queried: {o.mute}")
    return Hop("inside", FINE, "by its guest agent" if o.by == "agent" else "by a login")


def _link(o: Outward) -> Hop | None:
    link = o.inside.link_of(o.hardware) if o.inside and o.inside.knows(LINKS) else None
    if link is None:
        return None
    # The guest reports its IPv4 addresses only.
    planned = f"{o.planned}/{o.prefix}" if o.planned and not o.by_ipv6 else ""
    if not link.up:
        command = f"ip link set {link.name} up" + (
            f" && ip address replace {planned} dev {link.name}" if planned else ""
        )
        return Hop("link", BROKEN, f"its link {link.name} is down", "it sends no packets", _said(o, Advice(command)))
    if planned and planned not in link.addresses:
        has = ", ".join(link.addresses) or "no address"
        command = f"ip address replace {planned} dev {link.name}"
        means = f"{planned} is planned for it: replies do not get back to it"
        return Hop("link", BROKEN, f"its link {link.name} has {has}", means, _said(o, Advice(command)))
    if o.by_ipv6:
        return Hop("link", FINE, f"{link.name} is up")
    return Hop("link", FINE, f"{link.name} is up and has {', '.join(link.addresses) or 'no address'}")


def _names(o: Outward) -> Hop | None:
    if not o.named or not o.by:
        return None
    if o.found:
        return Hop("names", FINE, f"{o.target} is {', '.join(o.found)}, by {', '.join(o.servers) or 'its own table'}")
    if not o.servers:
        means = "it cannot resolve any name"
        remedy = "set name-servers in its network, then dacha apply and dacha restart " + o.guest
        return Hop("names", BROKEN, "it has no name server (/etc/resolv.conf)", means, remedy)
    servers = ", ".join(o.servers)
    if o.known:
        known = ", ".join(o.known)
        means = f"this host resolves it to {known}: the guest's name server does not answer, or does not have the name"
        return Hop("names", BROKEN, f"{servers} has no address for {o.target}", means, _try_server(o))
    means = "this host cannot resolve it either: the name is wrong, or this host's name server does not answer"
    return Hop(
        "names", BROKEN, f"{servers} has no address for {o.target}", means, f"getent hosts {o.target}   on this host"
    )


def _try_server(o: Outward) -> str:
    return f"to see whether it answers: dacha trace {o.guest} --to {o.servers[0]}:53"


def _route(o: Outward) -> Hop | None:
    if o.way is None:
        return None
    if o.way:
        dev = o.way.partition(" dev ")[2].partition(" ")[0]
        via = o.way.partition(" via ")[2].partition(" ")[0]
        # By router advertisements, the gateway of IPv6 is a link-local address (RFC 4861 section 4.2).
        if via and o.gateway and via != o.gateway and not via.startswith("fe80:"):
            means = f"the gateway of network {o.network} is {o.gateway}"
            advice = Advice(f"{o.ip} route replace default via {o.gateway}")
            return Hop("route", BROKEN, f"its default route uses {via}", means, _said(o, advice))
        link = o.inside.link_of(o.hardware) if o.inside and o.inside.knows(LINKS) else None
        if link and dev and dev != link.name and o.tried == TIMED_OUT:
            why = _policies(o) or "a route of the guest leads there"
            means = f"these packets do not use network {o.network}: {why}"
            shows = _said(o, Advice(f"ip route get {o.address}; ip rule; ip route"))
            return Hop("route", BROKEN, f"its route to {o.address} is by {dev}, not by {link.name}", means, shows)
        return Hop("route", FINE, f"by {via or 'its own link'}, {dev}")
    if not o.gateway:
        means = f"network {o.network} has no way out: it is {o.kind}{', isolated' if o.isolated else ''}"
        return Hop("route", BROKEN, f"it has no route to {o.address}", means, _open_network(o))
    seen = f"it has no route to {o.address}"
    if o.inside and o.inside.gateway and not o.by_ipv6:
        return Hop("route", BROKEN, seen, *_discarded(o, o.inside))
    advice = Advice(f"{o.ip} route replace default via {o.gateway}")
    return Hop("route", BROKEN, seen, "its default route is missing", _said(o, advice))


def _policies(o: Outward) -> str:
    """The guest's own policy rules, in words; "" if it has none."""
    rules = [rule.partition(":")[2].strip() for rule in o.inside.policies] if o.inside else []
    return f"its policy rules are {'; '.join(rules[:3])}" if rules else ""


def _discarded(o: Outward, inside: Inside) -> tuple[str, str]:
    """Why a guest with a default route has no route to an address, and the remedy."""
    way = way_to(inside.ways, o.address)
    if way and way.kind:
        return f"its route {way} discards these packets", _said(o, Advice(f"ip route del {way}"))
    means = _policies(o) or "one of: another route, or a policy rule, applies to this address; a link is down"
    return means, _said(o, Advice(f"ip route get {o.address}; ip rule; ip route show table all"))


def _open_network(o: Outward) -> str:
    if o.kind == "host-only":
        return f"dacha network edit {o.network} --kind nat, then dacha apply, then dacha restart {o.guest}"
    return f"dacha network edit {o.network} --open, then dacha apply, then dacha restart {o.guest}"


def _own_rules(o: Outward) -> Hop | None:
    """Whether the guest's own firewall lets the connection out."""
    if o.tried in (GOT_IN, NOT_TRIED) or o.inside is None or not o.inside.knows(RULES):
        return None
    dev = (o.way or "").partition(" dev ")[2].partition(" ")[0] or None
    version = 6 if ":" in o.address else 4
    packet = Packet(version, None, dev, o.planned or None, o.address, "tcp", o.port)
    blocked = blocking(o.inside.rules, packet, "output")
    if blocked is None:
        return Hop("own-rules", FINE, "they let it out") if o.inside.rules else None
    if blocked.sure:
        remedy = _said(o, to_let_pass(blocked, o.port, out=True))
        return Hop("own-rules", BROKEN, blocked.words, "the guest's own firewall blocks it", remedy)
    return Hop("own-rules", UNTESTED, f"whether the guest's own firewall drops it is not certain: {blocked.words}")


def _gateway(o: Outward) -> Hop | None:
    """Whether its gateway answers on its network; in user mode that is QEMU itself."""
    if not o.gateway_state or o.where == "user" or o.tried == GOT_IN:
        return None
    if o.gateway_state in ("FAILED", "INCOMPLETE"):
        means = "no machine on its network has the gateway's address"
        return Hop("gateway", BROKEN, f"{o.gateway} does not answer", means, "dacha check\ndacha apply")
    return Hop("gateway", FINE, f"{o.gateway} answers")


def _rules(o: Outward) -> Hop | None:
    if o.rules_missing:
        return Hop("rules", BROKEN, *o.rules_missing, "dacha apply")
    if o.tried == GOT_IN:
        return Hop("rules", FINE, "this host forwards it")
    if o.refuses:
        what, remedy = o.refuses
        return Hop("rules", BROKEN, what, "the lab's rules on this host block it", remedy)
    if o.dropped:
        return Hop("rules", BROKEN, o.dropped.words(), "another program's rule on this host", o.dropped.shown)
    return Hop("rules", FINE, "the lab's rules allow it" if o.where != "own" else "this host does not filter it")


def _forwarding(o: Outward) -> Hop | None:
    """Whether the kernel of this host forwards it, and the replies."""
    if o.forwarding is None or o.tried in (GOT_IN, TURNED_AWAY):
        return None
    return forwards(o.forwarding, o.unforwarded)


def _host(o: Outward) -> Hop | None:
    if o.host is None:
        return None
    if o.routed is False and o.tried not in (GOT_IN, TURNED_AWAY):
        means = "one of: its default route is missing; a route or a policy rule discards these packets"
        shows = f"{o.ip} route get {o.address}\n{o.ip} rule and {o.ip} route show table all show the routes"
        return Hop("host", BROKEN, f"this host has no route to {o.address} ({o.host.seen})", means, shows)
    if o.near and o.near.cut:
        return Hop("host", BROKEN, f"disconnected from the network of {o.near.address}: {o.near.cut.what}",
                   o.near.cut.means, o.near.cut.remedy)  # fmt: skip
    if o.near and o.near.router and o.near.answers is False:
        seen = f"the router {o.near.address} does not answer ARP on {o.near.link}"
        means = "one of: it is off, or not connected; this host's route names the wrong router"
        return Hop("host", BROKEN, seen, means, f"ip route get {o.address}\nip -4 neighbour show dev {o.near.link}")
    words = {OPEN: "this host connects", REFUSED: "the port refuses this host, too",
             REJECTED: "a firewall refuses this host, too", SILENT: "no answer to this host, either"}  # fmt: skip
    # Without an answer to ARP the kernel reports the same error as for a firewall's rejection.
    how = SILENT if o.near and o.near.answers is False else o.host.how
    return Hop("host", FINE if how == OPEN else UNTESTED, words.get(how, f"this host: {o.host.seen}"))


def _target(o: Outward) -> Hop:
    where = str(Endpoint(o.address or o.target, o.port))
    if o.tried == GOT_IN:
        return Hop("target", FINE, f"the guest connects to {where}")
    if o.tried == NOT_TRIED:
        why = "the guest has no program that can connect" if o.by else "the guest could not be queried"
        return Hop("target", UNTESTED, f"{why}: {where}")
    host = o.host.how if o.host else ""
    if o.tried == TURNED_AWAY:
        if host == OPEN:
            means = "one of: it refuses the guest's address; a firewall in between rejects the guest only"
            return Hop("target", BROKEN, f"{where} refuses the guest, and not this host", means, "check its own log")
        means = "one of: no program listens on that port; a firewall there answers with a reset"
        return Hop("target", BROKEN, f"{where} refuses", means, "start the service there, or allow the port there")
    if host == OPEN:
        means = (
            "one of: it, or a firewall before it, drops the guest's address; its replies take another route; "
            "another program on this host changes the guest's source address (snat)"
        )
        return Hop("target", BROKEN, f"no answer to the guest from {where}, and this host connects", means,
                   "check its route back to this host's address")  # fmt: skip
    if o.near and not o.near.router and o.near.answers is not None:
        return _beside(o, o.near, where)
    means = "one of: it is off, or does not exist; something beyond this host drops the connection"
    return Hop(
        "target", BROKEN, f"no answer from {where}, to this host either", means, f"ping -c 3 {o.address or o.target}"
    )


def _beside(o: Outward, near: Near, where: str) -> Hop:
    """A silent target on a network that this host is connected to: whether it is there at all."""
    if not near.answers:
        seen = f"no machine answers ARP for {near.address} on {near.link}"
        means = "it is off, or no machine has that address"
        return Hop("target", BROKEN, seen, means, "check its address, and that it is on")
    seen = f"no answer from {where}, to this host either; it is on: it answers ARP"
    means = "one of: its firewall drops the connection; its replies take another route"
    return Hop("target", BROKEN, seen, means, f"allow TCP port {o.port} in its firewall")


_WAY: tuple[Callable[[Outward], Hop | None], ...] = (
    _guest, _inside, _link, _names, _route, _own_rules, _gateway, _rules, _forwarding, _host, _target,
)  # fmt: skip
SHOWN = {"guest": "guest", "inside": "asked", "link": "its link", "names": "names", "route": "its route",
         "own-rules": "its rules", "gateway": "gateway", "rules": "rules here",
         "forwarding": "forwarding", "host": "this host",
         "target": "the target"}  # fmt: skip
