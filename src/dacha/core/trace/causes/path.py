"""Why the guest does not answer on its own network or to other networks, or why large packets are lost."""

from __future__ import annotations

import re

from dacha.core.network.firewall.matches import Packet
from dacha.core.trace.causes.advice import RULES_THERE, Advice
from dacha.core.trace.causes.cause import Cause
from dacha.core.trace.causes.port import client_of, first_packet, serves, within
from dacha.core.trace.seen.evidence import Evidence
from dacha.core.trace.seen.inside import Inside
from dacha.core.trace.seen.own_rules import Blocked, blocking
from dacha.core.trace.seen.questions import LINKS
from dacha.core.trace.seen.reported import Link
from dacha.core.trace.seen.ways import Reply, Way, way_to

# The hardware address of an entry without an answer (/proc/net/arp).
NOBODY = "00:00:00:00:00:00"


def why_silent(e: Evidence) -> Cause | None:
    """Why no machine answers for the guest's address on its network."""
    link = e.inside.link_of(e.link.hardware) if e.inside and e.link.hardware else None
    address = e.net.address or e.net.planned
    if e.inside is None or not address:
        return None
    if link is None:
        return _renamed(e, e.inside)
    planned = f"{address}/{e.net.prefix}"
    onward = f" && ip route replace default via {e.net.gateway}" if e.net.gateway else ""
    if not link.up:
        command = f"ip link set {link.name} up && ip address replace {planned} dev {link.name}{onward}"
        return Cause(f"its link {link.name} is down", "it was not configured, or it was taken down", Advice(command))
    if planned not in link.addresses:
        has = f"has {', '.join(link.addresses)}" if link.addresses else "has no address"
        command = f"ip address replace {planned} dev {link.name}{onward}"
        return Cause(f"its link {link.name} {has}", f"{address} is planned for it", Advice(command))
    seen = f"its link {link.name} is up and has {address}"
    if not link.by_arp:
        return Cause(seen, "ARP is switched off on it (noarp)", Advice(f"ip link set {link.name} arp on"))
    means = "one of: its own settings keep it from answering ARP; its packets are lost on the way out"
    return Cause(seen, means, Advice(f"ip -s link show {link.name}; tc qdisc show dev {link.name}"), proved=False)


def why_unanswered(e: Evidence) -> Cause | None:
    """Why a port does not respond whose server runs, and that the guest's rules do not block: its replies go
    elsewhere."""
    inside, here, client = e.inside, e.link.carried.hardware if e.link.carried else "", client_of(e)
    if inside is None or client is None:
        return None
    for entry in inside.neighbours:
        if here and entry.address == e.net.gateway and entry.hardware not in (here, NOBODY):
            by_hand = ", set by hand" if entry.fixed else ""
            seen = f"it sends to {e.net.gateway} at the hardware address {entry.hardware}{by_hand}"
            means = f"{e.net.gateway} has {here}: its replies do not arrive"
            return Cause(seen, means, Advice(f"ip neighbour del {e.net.gateway} dev {entry.dev}"))
    if told := _wrong_way(e, inside, client):
        return told
    if blocked := blocked_replies(e, inside):
        seen = "the guest reports that a program listens there" if serves(inside, e.port) else "it answers ARP"
        if blocked.sure:
            return Cause(seen, f"the guest's firewall blocks its replies: {blocked.words}", RULES_THERE)
        means = f"one of: the guest's firewall drops its replies ({blocked.words}); its system hangs"
        return Cause(seen, means, RULES_THERE, proved=False)
    return None


def blocked_replies(e: Evidence, inside: Inside, to: str | None = None) -> Blocked | None:
    """What of the guest's firewall drops its replies, or may do so: those to this host, or to another address."""
    link, ours = inside.link_of(e.link.hardware) if e.link.hardware else None, e.net.address or e.net.planned
    # Which port of this host they go to is not known.
    client, version = to or client_of(e) or e.net.gateway, 6 if ":" in ours else 4
    out = link.name if link else None
    packet = Packet(version, "", out, ours, client, "tcp", None, state="established", sport=e.port)
    return blocking(inside.rules, packet, "output")


def _renamed(e: Evidence, inside: Inside) -> Cause | None:
    """The link that has another hardware address than its adapter."""
    others = [x for x in inside.links if x.up and x.hardware not in (NOBODY, "") and x.by_arp]
    if not e.link.hardware or not inside.knows(LINKS) or len(others) != 1:
        return None
    link = others[0]
    seen = f"its link {link.name} has the hardware address {link.hardware}, and its adapter {e.link.hardware}"
    means = "its frames do not come from the address of its adapter, and the lab's rules drop them"
    return Cause(seen, means, Advice(f"ip link set {link.name} address {e.link.hardware}"))


# What may keep replies to other networks from leaving a guest with the right gateway.
_RULE, _POLICY = "a rule of its firewall drops its replies", "a table of routes of its own (ip rule) applies to them"


def _wrong_way(e: Evidence, inside: Inside, client: str) -> Cause | None:
    """The route for a client that does not lead to it: on its own network directly, else by the network's gateway."""
    # A guest without the program `ip` reports neither routes nor addresses.
    if ":" in client or not (inside.ways or any(x.addresses for x in inside.links)):
        return None
    link, gateway = inside.link_of(e.link.hardware) if e.link.hardware else None, e.net.gateway
    if (reply := next((r for r in inside.replies if r.client == client), None)) and inside.policies:
        return _wrong_policy(e, inside, reply, link)
    way, near = way_to(inside.ways, client), _near(e, client)
    if link and (mask := _wrong_mask(e, link, way, near=near)):
        return mask
    if way is None:
        means = f"its default route is missing: replies to {client} do not leave it"
        advice = Advice(f"ip route replace default via {gateway}") if gateway else None
        return Cause(f"it has no route for {client}", means, advice)
    if _leads_there(way, gateway, link, near=near):
        return None
    what = "discards its replies" if way.kind else f"leads its replies elsewhere (its gateway should be {gateway})"
    seen = f"its route for {client} is: {way}"
    if way.is_default:
        return Cause(seen, f"this route {what}", Advice(f"ip route replace default via {gateway}") if gateway else None)
    other = next((x for x in inside.links if x.name == way.dev and x != link), None)
    if other and (same := next((a for a in other.addresses if within(client, a)), None)):
        words = f"give its network on {other.name} other addresses, or remove it"
        return Cause(seen, f"{other.name} has {same}: it looks for {client} there", Advice(words=words))
    return Cause(seen, f"this route {what}", Advice(f"ip route del {way}"))


def why_one_is_unanswered(e: Evidence, client: str) -> Cause | None:
    """Why a client whose packets reach the guest gets no answer, though this host does."""
    inside = e.inside
    if inside is None:
        return None
    if blocked := blocking(inside.rules, first_packet(e, inside, client)):
        if not blocked.sure:
            seen = f"it is not certain whether the guest's firewall admits {client}: {blocked.words}"
            return Cause(seen, "", RULES_THERE, proved=False)
        return Cause(f"the guest's firewall drops packets from {client}: {blocked.words}", "", RULES_THERE)
    if way := _wrong_way(e, inside, client):
        return way
    if (blocked := blocked_replies(e, inside, client)) and blocked.sure:
        return Cause(f"the guest's firewall drops its replies to {client}: {blocked.words}", "", RULES_THERE)
    return None


def _near(e: Evidence, client: str) -> bool:
    """True if a client is on the guest's own network, as planned."""
    return within(client, f"{e.net.address or e.net.planned}/{e.net.prefix}")


def _leads_there(way: Way, gateway: str, link: Link | None, *, near: bool) -> bool:
    """True for a route that is right: directly to the guest's own network, by its gateway to all others."""
    if way.kind or (link and way.dev and way.dev != link.name):
        return False
    if not gateway and not near:
        return bool(way.via)  # a network whose router Dacha does not know
    return way.via in (gateway, "") if near or not link else way.via == gateway


def _wrong_mask(e: Evidence, link: Link, way: Way | None, *, near: bool) -> Cause | None:
    """The prefix length of the guest's address, if it explains the route: too long for its own network, or too short
    for another one."""
    address = e.net.address or e.net.planned
    there = next((a for a in link.addresses if a.partition("/")[0] == address), "")
    planned = f"{address}/{e.net.prefix}"
    if not there or there == planned or not e.net.prefix:
        return None
    directly = way is not None and not way.kind and not way.via
    if near == directly:
        return None
    onward = f" && ip route replace default via {e.net.gateway}" if e.net.gateway else ""
    command = f"ip address del {there} dev {link.name}; ip address replace {planned} dev {link.name}{onward}"
    means = f"its network has the prefix length {e.net.prefix}: its replies go elsewhere"
    return Cause(f"its link {link.name} has {there}", means, Advice(command))


def _wrong_policy(e: Evidence, inside: Inside, reply: Reply, link: Link | None) -> Cause | None:
    """The policy rule of the guest that sends replies elsewhere; None if they go the right way."""
    way, gateway, source = reply.way, e.net.gateway, e.net.address or e.net.planned
    if way and _leads_there(way, gateway, link, near=_near(e, reply.client)):
        return None
    named = [p for p in inside.policies if reply.table and re.search(rf"lookup {re.escape(reply.table)}\b", p)]
    rules = [rule.partition(":")[2].strip() for rule in named or inside.policies]
    seen = f"its policy {'rule' if len(rules) == 1 else 'rules'} for routes: {'; '.join(rules[:3])}"
    if way:
        means = f"its replies to {reply.client} leave by {way.dev}" + (f" via {way.via}" if way.via else "")
    else:
        means = f"its replies to {reply.client} are discarded ({reply.error or 'no route'})"
    first = min((int(p.partition(":")[0]) for p in inside.policies if p.partition(":")[0].isdigit()), default=0)
    mends = f"ip rule add from {source} lookup main pref {first - 1}" if first > 1 else f"ip rule del pref {first}"
    return Cause(seen, means, Advice(mends))


def why_large_are_lost(e: Evidence, largest: int) -> Cause | None:
    """Why packets of this many bytes do not pass, and smaller ones do."""
    inside = e.inside
    link = inside.link_of(e.link.hardware) if inside and e.link.hardware else None
    if inside is None or link is None:
        return None
    if 0 < link.mtu < largest:
        means = f"the MTU of its link {link.name} is {link.mtu}, and this side sends up to {largest} bytes"
        return Cause("", means, Advice(f"ip link set {link.name} mtu {largest}"))
    if blocked := blocking(inside.rules, first_packet(e, inside)) or blocked_replies(e, inside):
        means = f"one of: the guest's firewall drops them ({blocked.words}); a link on the path has a smaller MTU"
        return Cause("", means, proved=False)
    return None


def why_not_beyond(e: Evidence) -> Cause | None:
    """Why the guest answers its own network only."""
    gateway, seen = e.net.gateway, ""
    if not gateway:
        return None
    if e.inside and e.inside.gateway is not None:
        if e.inside.gateway and e.host.lan_address and (other := _wrong_way(e, e.inside, e.host.lan_address)):
            return other
        seen = f"its default gateway is {e.inside.gateway}" if e.inside.gateway else "it has no default route"
        if e.inside.gateway == gateway:
            return _beyond(e, e.inside, seen)
    return Cause(seen, f"its gateway should be {gateway}", Advice(f"ip route replace default via {gateway}"))


def _beyond(e: Evidence, inside: Inside, seen: str) -> Cause:
    """Why a guest with the right gateway does not answer other networks."""
    client = e.host.lan_address
    blocked = blocked_replies(e, inside, client) if client else None
    if blocked and blocked.sure:
        return Cause(seen, f"the guest's firewall blocks its replies: {blocked.words}", RULES_THERE)
    asked = any(r.client == client for r in inside.replies) or not inside.policies
    left = [_RULE + (f" ({blocked.words})" if blocked else ""), *([] if asked and inside.knows(LINKS) else [_POLICY])]
    means = f"one of: {'; '.join(left)}; another program in the guest drops them (tc, eBPF)"
    return Cause(seen, means, RULES_THERE, proved=False)
