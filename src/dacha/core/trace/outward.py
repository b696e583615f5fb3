"""The opposite direction: why a guest does not reach something. From inside the guest outwards, hop by hop; the guest's
reports name causes, observations of this host exclude some."""

from __future__ import annotations

from collections.abc import Callable
from ipaddress import ip_address

from dacha.core.endpoint import Endpoint
from dacha.core.named import NamedTuple
from dacha.core.network.firewall.matches import Packet
from dacha.core.trace.causes.advice import Advice, to_let_pass
from dacha.core.trace.hop import BROKEN, FINE, UNTESTED, Hop
from dacha.core.trace.seen.evidence import AGENT, UNKNOWN, kind_of_login
from dacha.core.trace.seen.inside import Inside
from dacha.core.trace.seen.own_rules import blocking
from dacha.core.trace.seen.questions import LINKS, RULES
from dacha.core.trace.seen.results import OPEN, REFUSED, REJECTED, SILENT, ConnectResult, Dropped
from dacha.core.units import whole_number

# The result of a connection that the guest made.
GOT_IN, TURNED_AWAY, TIMED_OUT, NOT_TRIED = "got in", "turned away", "timed out", "not tried"


class Outward(NamedTuple):
    """The evidence. `target` is the requested machine, `port` its TCP port, `where` how the guest's network is carried
    ("kernel", "user", "own"), `kind` its kind; `by` is how the guest was queried, "" if it was not, and `mute` why not.
    Inside: `servers` are its name servers, `found` the addresses that it has for the name, `way` its route there (""
    for none, None if not reported), `gateway_state` the state of its gateway's neighbour entry (ip-neighbour(8)),
    `tried` the result of its own connection, `said` its message. On this host: `known` are the addresses that it has
    for the name, `host` the result of its own connection, `refuses` the lab's rule that blocks the guest (what,
    remedy), `dropped` another program's."""

    guest: str
    target: str
    port: int
    state: str = "on"
    network: str = ""
    kind: str = ""
    where: str = ""
    isolated: bool = False
    planned: str = ""
    prefix: int = 0
    gateway: str = ""
    hardware: str = ""
    by: str = ""
    mute: str = ""
    inside: Inside | None = None
    servers: tuple[str, ...] = ()
    found: tuple[str, ...] = ()
    way: str | None = None
    gateway_state: str = ""
    tried: str = NOT_TRIED
    said: str = ""
    known: tuple[str, ...] = ()
    host: ConnectResult | None = None
    refuses: tuple[str, str] | None = None
    dropped: Dropped | None = None
    rules_missing: tuple[str, str] | None = None

    @property
    def named(self) -> bool:
        """True if the target is a name."""
        return not _is_address(self.target)

    @property
    def by_ipv6(self) -> bool:
        """True for a target that is an IPv6 address."""
        return ":" in self.target

    @property
    def ip(self) -> str:
        """The command for routes of its family (ip-route(8))."""
        return "ip -6" if self.by_ipv6 else "ip"

    @property
    def from_here(self) -> str:
        """The address that this host connects to: never one that only the guest reported."""
        return next(iter(self.known), "") if self.named else self.target

    @property
    def address(self) -> str:
        """The target's address: as the guest has it, else as this host does."""
        return next(iter((*self.found, *self.known)), "") if self.named else self.target

    def said_by(self, advice: Advice) -> str:
        """A remedy inside the guest, by the way it was queried."""
        return advice.said(self.guest, {"agent": AGENT, "login": kind_of_login(self.inside)}.get(self.by, UNKNOWN))


def read_way(text: str, o: Outward) -> Outward:
    """Add what the guest reported (`way_script`, `target_script`). Malformed lines and invalid addresses are
    skipped."""
    for line in text.splitlines()[:100]:
        word, _, rest = line.strip()[:300].partition(" ")
        match word:
            case "resolver" if _is_address(rest):
                o = o._replace(servers=(*o.servers, rest))
            case "resolved" if rest not in o.found and _is_address(rest):
                o = o._replace(found=(*o.found, rest))
            case "way":
                o = o._replace(way=rest)
            case "neighbour":
                o = o._replace(gateway_state=rest.split()[-1] if rest else "")
            case "tried":
                code, _, words = rest.partition(" ")
                low, number = words.lower(), whole_number(code)
                result = GOT_IN if number == 0 else TURNED_AWAY if "refused" in low else TIMED_OUT
                o = o._replace(tried=NOT_TRIED if number is None else result, said=words)
            case _:
                continue
    return o


def _is_address(text: str) -> bool:
    try:
        ip_address(text)
    except ValueError:
        return False
    return True


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
        return Hop("link", BROKEN, f"its link {link.name} is down", "it sends no packets", o.said_by(Advice(command)))
    if planned and planned not in link.addresses:
        has = ", ".join(link.addresses) or "no address"
        command = f"ip address replace {planned} dev {link.name}"
        means = f"{planned} is planned for it: replies do not get back to it"
        return Hop("link", BROKEN, f"its link {link.name} has {has}", means, o.said_by(Advice(command)))
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
            return Hop("route", BROKEN, f"its default route uses {via}", means, o.said_by(advice))
        return Hop("route", FINE, f"by {via or 'its own link'}, {dev}")
    if not o.gateway:
        means = f"network {o.network} has no way out: it is {o.kind}{', isolated' if o.isolated else ''}"
        return Hop("route", BROKEN, f"it has no route to {o.address}", means, _open_network(o))
    advice = Advice(f"{o.ip} route replace default via {o.gateway}")
    return Hop("route", BROKEN, f"it has no route to {o.address}", "its default route is missing", o.said_by(advice))


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
        remedy = o.said_by(to_let_pass(blocked, o.port, out=True))
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


def _host(o: Outward) -> Hop | None:
    if o.host is None:
        return None
    words = {OPEN: "this host connects", REFUSED: "the port refuses this host, too",
             REJECTED: "a firewall refuses this host, too", SILENT: "no answer to this host, either"}  # fmt: skip
    return Hop("host", FINE if o.host.how == OPEN else UNTESTED, words.get(o.host.how, f"this host: {o.host.seen}"))


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
            "one of: it or a firewall before it drops the guest's address; its replies to the guest take another route"
        )
        return Hop("target", BROKEN, f"no answer to the guest from {where}, and this host connects", means,
                   "check its route back to this host's address")  # fmt: skip
    means = "one of: it is off, or does not exist; something beyond this host drops the connection"
    return Hop(
        "target", BROKEN, f"no answer from {where}, to this host either", means, f"ping -c 3 {o.address or o.target}"
    )


_WAY: tuple[Callable[[Outward], Hop | None], ...] = (
    _guest, _inside, _link, _names, _route, _own_rules, _gateway, _rules, _host, _target,
)  # fmt: skip
SHOWN = {"guest": "guest", "inside": "asked", "link": "its link", "names": "names", "route": "its route",
         "own-rules": "its rules", "gateway": "gateway", "rules": "rules here", "host": "this host",
         "target": "the target"}  # fmt: skip
