"""Rules for the lab in this host's own firewall: the traffic that must pass, the firewall that blocks it, and the
narrow rule that this firewall's manager provides for that.

Nothing is done without consent (`open-firewall`), and each rule is identified by its comment.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

from dacha.core.lab.model import Lab
from dacha.core.lab.names import link_name
from dacha.core.named import NamedTuple
from dacha.core.network.firewall.iptables import BY_IPTABLES, LEGACY, plain_table, program_of
from dacha.core.network.firewall.matches import Packet
from dacha.core.network.firewall.walk import Culprit, dropped_by
from dacha.core.plan.plan import Plan
from dacha.core.plan.smb import PORT, smb_places

# The prefix of the names of Dacha's own tables.
OWN = "dacha_"
# What guests need from this host itself: DHCP and DNS (RFC 2131, RFC 8415, RFC 1035).
SERVED = (("udp", 67), ("udp", 547), ("udp", 53), ("tcp", 53))
# What machines use for network boot: TFTP and HTTP.
BOOT = (("udp", 69), ("tcp", 80))
# The chain in which a container engine expects the administrator's rules (its own rules call it first).
USER_CHAIN = "DOCKER-USER"
UFW, IPTABLES, NFT, FIREWALLD = "ufw", BY_IPTABLES, "nft", "firewalld"
# Documentation addresses (RFC 5737, RFC 3849), for a client that no rule knows.
_SOMEBODY = {4: "198.51.100.77", 6: "2001:db8:77::1"}


class Traffic(NamedTuple):
    """Connections that must pass: `about` names their purpose ("door gauge ssh", "network pier"), `hook` where they
    pass ("forward", "input"); "" and 0 stand for any value. With `replies`, the return traffic is meant."""

    about: str
    hook: str
    version: int
    arrives: str = ""
    leaves: str = ""
    source: str = ""
    address: str = ""
    protocol: str = ""
    port: int = 0
    replies: bool = False
    last: int = 0

    def ports(self, between: str) -> str:
        """The port or the range, with the separator that a firewall uses."""
        return f"{self.port}{between}{self.last}" if self.last > self.port else str(self.port)


class Opening(NamedTuple):
    """A rule that allows a flow: the firewall's manager, and the family, table and chain."""

    flow: Traffic
    owner: str
    family: str = ""
    table: str = ""
    chain: str = ""

    def __str__(self) -> str:
        return f"{self.flow.about} in {self.owner}"


def flows(lab: Lab, plan: Plan) -> Iterator[Traffic]:
    """All traffic of the lab that must pass this host: doors from the LAN, the way out of its kernel networks and the
    replies, guests' DHCP and DNS, network boot, SMB shares."""
    for door in plan.doors.values():
        if not door.door.from_lan or door.port is None or door.adapter is None or door.means != "forward":
            continue
        about = f"door {door.door.guest} {door.door.name}"
        version = door.listen.version
        inside = door.adapter.address6 if version == 6 else door.adapter.address
        # A door that allows only the other IP version needs no rule for this one.
        sources = [str(n) for n in door.door.allow if n.version == version] if door.door.allow else [""]
        for source in sources:
            if door.backend == "kernel" and inside:
                leaves = link_name(lab.name, "network", door.adapter.network)
                to, (first, last) = str(inside), door.door.to
                yield Traffic(about, "forward", version, "", leaves, source, to, door.door.protocol, first, last=last)
            elif door.backend != "kernel":
                first, last = door.port
                yield Traffic(about, "input", version, "", "", source, "", door.door.protocol, first, last=last)
    places = list(smb_places(lab, plan))
    for net in lab.networks.values():
        if not net.managed:
            continue
        shared = [str(place.guest) for _, place in places if place.network == net.name]
        bridge, about = link_name(lab.name, "network", net.name), f"network {net.name}"
        for version in (4, 6) if plan.networks[net.name].subnet6 else (4,):
            for protocol, port in SERVED:
                if (port == 547) == (version == 6) or port == 53:
                    yield Traffic(about, "input", version, bridge, "", "", "", protocol, port)
            if net.boot and version == 4:
                for protocol, port in BOOT:
                    yield Traffic(about, "input", 4, bridge, "", "", "", protocol, port)
            for address in shared if version == 4 else ():
                yield Traffic(about, "input", 4, bridge, "", address, "", "tcp", PORT)
            yield Traffic(about, "forward", version, bridge, bridge)
            if net.kind == "nat" and not net.isolated:
                yield Traffic(about, "forward", version, bridge, "")
            if net.kind == "nat":
                yield Traffic(about, "forward", version, "", bridge, replies=True)


def openings(listing: Mapping[str, Any], wanted: Iterator[Traffic], out: str) -> list[Opening]:
    """The rules that would allow what other programs' rules certainly drop now. `out` is the interface to the LAN."""
    return [o for flow in wanted if (o := _opening(listing, flow, out))]


def _opening(listing: Mapping[str, Any], flow: Traffic, out: str) -> Opening | None:
    culprit = dropped_by(listing, flow.hook, packet_of(flow, out), OWN)
    if culprit is None:
        return None
    owner, chain = owner_of(listing, culprit)
    return Opening(flow, owner, culprit.family, culprit.table, chain)


def packet_of(flow: Traffic, out: str) -> Packet:
    """The first packet of such a connection, from a client that no rule knows."""
    arrives = flow.arrives or out
    leaves = flow.leaves or (out if flow.hook == "forward" else None)
    source = (flow.source.partition("/")[0] if flow.source else "") or _SOMEBODY[flow.version]
    address = flow.address or _SOMEBODY[flow.version]
    protocol, port = flow.protocol or "tcp", flow.port or 443
    state = "established" if flow.replies else "new"
    # A door is already forwarded to its guest at this point; traffic of guests is not forwarded.
    # Replies come from a server's port.
    sport = 0 if flow.replies else None
    return Packet(flow.version, arrives, leaves, source, address, protocol, port, bool(flow.address), state, sport)


def owner_of(listing: Mapping[str, Any], culprit: Culprit) -> tuple[str, str]:
    """The manager of these rules, and the chain that it provides for rules of others."""
    there = [e["chain"] for e in listing["nftables"] if "chain" in e]
    # A manager may have chains for one IP version only.
    chains = {c["name"] for c in there if (c["family"], c.get("by", NFT)) == (culprit.family, culprit.by)}
    if culprit.table == "firewalld":
        return FIREWALLD, culprit.base
    if culprit.by not in (IPTABLES, LEGACY):
        return NFT, culprit.base
    if any(name.startswith(("ufw-user-", "ufw6-user-")) for name in chains):
        return UFW, culprit.base
    if culprit.base == "FORWARD" and USER_CHAIN in chains:
        return culprit.by, USER_CHAIN
    return culprit.by, culprit.base


def comment(lab: str, flow: Traffic) -> str:
    """The unique comment of a rule: characters that every manager accepts."""
    kind = "back" if flow.replies else f"{flow.protocol} {flow.port}" if flow.protocol else flow.hook
    more = [flow.source] if flow.source else []
    inner = ["within"] if flow.arrives and flow.arrives == flow.leaves else []
    return " ".join(["dacha", lab, flow.about, f"IPv{flow.version}", kind, *inner, *more])


def commands(lab: str, opening: Opening, verb: str) -> list[list[str]]:
    """The programs and arguments that add a rule ("add") or remove it ("remove"). A rule of nft is removed by its
    handle: there is no command for it."""
    flow, said = opening.flow, comment(lab, opening.flow)
    if opening.owner == UFW:
        return [_ufw(flow, said, verb)]
    if opening.owner in (IPTABLES, LEGACY):
        program = program_of("ip" if flow.version == 4 else "ip6", opening.owner)
        action = {"add": "-I", "remove": "-D"}[verb]
        rule = ["-m", "comment", "--comment", said, "-j", "ACCEPT"]
        return [[program, "-w", "-t", plain_table(opening.table), action, opening.chain, *_iptables(flow), *rule]]
    if opening.owner == FIREWALLD:
        return _firewalld(flow, verb)
    if verb != "add":
        return []
    where = [opening.family, opening.table, opening.chain]
    return [["nft", "insert", "rule", *where, *_nft(flow), "accept", "comment", f'"{said}"']]


def _ufw(flow: Traffic, said: str, verb: str) -> list[str]:
    words = ["ufw", *(["route"] if flow.hook == "forward" else []), *(["delete"] if verb == "remove" else []), "allow"]
    words += ["in", "on", flow.arrives] if flow.arrives else []
    words += ["out", "on", flow.leaves] if flow.leaves and flow.hook == "forward" else []
    words += ["from", flow.source] if flow.source else []
    anybody = "0.0.0.0/0" if flow.version == 4 else "::/0"
    words += ["to", flow.address or anybody]
    words += ["port", flow.ports(":")] if flow.port else []
    words += ["proto", flow.protocol] if flow.protocol else []
    return words if verb == "remove" else [*words, "comment", said]


def _iptables(flow: Traffic) -> Iterator[str]:
    if flow.arrives:
        yield from ("-i", flow.arrives)
    if flow.leaves:
        yield from ("-o", flow.leaves)
    if flow.source:
        yield from ("-s", flow.source)
    if flow.address:
        yield from ("-d", flow.address)
    if flow.protocol:
        yield from ("-p", flow.protocol, "--dport", flow.ports(":"))
    if flow.replies:
        yield from ("-m", "conntrack", "--ctstate", "RELATED,ESTABLISHED")


def _nft(flow: Traffic) -> Iterator[str]:
    family = "ip" if flow.version == 4 else "ip6"
    if flow.arrives:
        yield from ("iifname", f'"{flow.arrives}"')
    if flow.leaves:
        yield from ("oifname", f'"{flow.leaves}"')
    if flow.source:
        yield from (family, "saddr", flow.source)
    if flow.address:
        yield from (family, "daddr", flow.address)
    if flow.protocol:
        yield from (flow.protocol, "dport", flow.ports("-"))
    if flow.replies:
        yield from ("ct", "state", "established,related")


def _firewalld(flow: Traffic, verb: str) -> list[list[str]]:
    """Applied now and permanently: a reload drops what is not permanent. A lab's bridge goes into the zone that allows
    all, as the lab's own rules decide what guests may do; a door is a rule in the LAN's zone."""
    kept: list[list[str]] = [[], ["--permanent"]]
    if bridge := flow.arrives or flow.leaves:
        return [["firewall-cmd", *more, "--zone=trusted", f"--{verb}-interface={bridge}"] for more in kept]
    source = f' source address="{flow.source}"' if flow.source else ""
    rule = f'rule family="ipv{flow.version}"{source} port port="{flow.ports("-")}" protocol="{flow.protocol}" accept'
    return [["firewall-cmd", *more, f"--{verb}-rich-rule={rule}"] for more in kept]
