"""A lab's nftables rules as one text, loaded in one transaction: doors, NAT, isolation, and source address checks.

Doors are elements of maps, so that ten thousand of them cost one look-up. Everything about IP is in one table of the
family inet; which link may use which address is checked in a second one of the family bridge, which also sees ARP.
"""

from __future__ import annotations

from collections.abc import Collection, Iterator

from dacha.core.lab.model import Lab
from dacha.core.lab.names import link_local
from dacha.core.network.door_counts import counts
from dacha.core.network.door_rules import DoorRules, named_set
from dacha.core.network.links import GROUP, BridgeLink, KernelPlan, Ports
from dacha.core.network.marks import forwarded, in_inet
from dacha.core.network.pins import pins
from dacha.core.plan.doors import Forward
from dacha.core.plan.plan import Plan
from dacha.core.plan.smb import PORT, smb_places

TABLE_FAMILIES = ("inet", "bridge")
# Addresses that are not on the internet (RFC 6890, with RFC 1918 and RFC 6598; RFC 4193).
PRIVATE = (
    ("ip", "0.0.0.0/8, 10.0.0.0/8, 100.64.0.0/10, 127.0.0.0/8, 169.254.0.0/16, 172.16.0.0/12, 192.168.0.0/16"),
    ("ip6", "fc00::/7, fe80::/10"),
)
# Connections that one guest may have open through this host: the kernel's table of connections is shared by all.
OPEN_MOST = 8192


def table_name(lab: str) -> str:
    """The table of a lab. nft does not accept hyphens in every name."""
    return "dacha_" + lab.replace("-", "_")


def ruleset(lab: Lab, plan: Plan, kernel: KernelPlan, apart: Collection[int] = (), ports: Ports | None = None) -> str:
    """The whole text for `nft -f`: it replaces the lab's former rules only. `apart` are the IP versions (4, 6) for
    which this host did not forward before a lab needed it: it still does not forward them between its other networks.
    `ports` are the existing links (default: every tap of the plan)."""
    name = table_name(lab.name)
    lines = [line for family in TABLE_FAMILIES for line in (f"table {family} {name}", f"delete table {family} {name}")]
    lines += [f"table inet {name} {{", f'comment "the lab {lab.name}, by dacha"']
    doors = DoorRules([d for d in plan.doors.values() if d.backend == "kernel"])
    bridges = kernel.bridges()
    lines += [*_loopback(), *doors.declarations(), *doors.chains()]
    lines += named_set("bridges", "ifname", [f'"{b.name}"' for b in bridges])
    existing = ports or Ports(frozenset(t.name for t in kernel.taps()))
    lines += in_inet(bool(bridges), [t.name for t in kernel.taps() if t.confined and t.name in existing.taps])
    lines += _nat(plan, bridges)
    lines += _served(bridges)
    lines += _filters(lab, plan, bridges)
    lines += [*_transit(lab, apart), *forwarded(existing.bridges)] if bridges and apart else []
    if lab.usage:
        lines += counts(d for d in plan.doors.values() if d.backend == "kernel")
    lines += ["}", f"table bridge {name} {{", *pins(lab, plan, kernel, existing.plugged), "}"]
    return "\n".join(lines) + "\n"


def removal(lab: str) -> str:
    """The text that removes a lab's tables. A table is declared first, so that a missing one is no error."""
    name = table_name(lab)
    return "".join(f"table {family} {name}\ndelete table {family} {name}\n" for family in TABLE_FAMILIES)


def _loopback() -> Iterator[str]:
    """Protect this host's loopback: the bridges' `route_localnet`, required for replies to it, would admit packets for
    it, and the doors' hooks would see them before routing rejects them. (IPv6 has no such setting: ::1 from a link is
    dropped before any hook, RFC 4291 section 2.5.3.)"""
    yield "chain loopback { type filter hook prerouting priority -300; policy accept;"
    yield 'iifname != "lo" ip daddr 127.0.0.0/8 counter drop'
    yield 'iifname != "lo" ip saddr 127.0.0.0/8 counter drop'
    yield "}"


def _nat(plan: Plan, bridges: list[BridgeLink]) -> Iterator[str]:
    yield "chain sources { type nat hook postrouting priority 100; policy accept;"
    # From this host's loopback: the guest needs an address that it can reply to.
    yield "oifname @bridges ip saddr 127.0.0.0/8 masquerade"
    for bridge in bridges:
        net = plan.networks[bridge.network]
        for family, subnet in (("ip", net.subnet), ("ip6", net.subnet6)):
            if subnet is None:
                continue
            # A guest that uses a door of its own network: its neighbour must not reply to it directly.
            yield f"{family} saddr {subnet} {family} daddr {subnet} ct status dnat masquerade"
            if _has_way_out(plan, bridge):
                yield f"{family} saddr {subnet} oifname != @bridges masquerade"
    yield "}"


def _served(bridges: list[BridgeLink]) -> Iterator[str]:
    """What every guest needs from this host itself: DHCP, DNS, ping. Only a bridge's own addresses answer, and the
    multicast groups of these protocols (RFC 2131 section 4.1, RFC 8415 section 7.1): the same port on another address
    of this host belongs to another program, such as this host's own resolver."""
    addresses = [(b.name, a.partition("/")[0]) for b in bridges for a in b.addresses]
    addresses += [(b.name, str(link_local(b.hardware_address))) for b in bridges]
    served = {version: [f'"{b}" . {a}' for b, a in addresses if (":" in a) == (version == 6)] for version in (4, 6)}
    yield from named_set("served", "ifname . ipv4_addr", served[4])
    yield from named_set("served6", "ifname . ipv6_addr", served[6])
    yield "chain served {"
    yield "iifname . ip daddr @served meta l4proto { tcp, udp } th dport 53 accept"
    yield "iifname . ip6 daddr @served6 meta l4proto { tcp, udp } th dport 53 accept"
    yield "iifname . ip daddr @served udp dport 67 accept"
    yield "ip daddr 255.255.255.255 udp dport 67 accept"
    yield "ip6 daddr ff02::1:2 udp dport 547 accept"
    yield from ("meta l4proto { icmp, ipv6-icmp } accept", "}")


def _filters(lab: Lab, plan: Plan, bridges: list[BridgeLink]) -> Iterator[str]:
    """What may be forwarded, and what may reach this host itself. Only traffic of this lab's bridges is judged."""
    capped = []
    for family, kind in (("ip", "ipv4_addr"), ("ip6", "ipv6_addr")):
        yield f"set open_{family} {{ type {kind}; size 65535; flags dynamic; }}"
        count = f"ct count over {OPEN_MOST}"
        capped.append(f"iifname @bridges ct state new add @open_{family} {{ {family} saddr {count} }} counter drop")
    yield "chain forward { type filter hook forward priority 0; policy accept;"
    yield "ct state established,related accept"
    yield from capped
    doored = [f'"{b.name}"' for b in bridges if plan.networks[b.network].kind == "nat"]
    if doored:
        # A door can be entered from everywhere except a network without a way out.
        shut = [f'"{b.name}"' for b in bridges if not _has_way_out(plan, b)]
        outside = f"iifname != {{ {', '.join(shut)} }} " if shut else ""
        yield f"{outside}oifname {{ {', '.join(doored)} }} ct status dnat accept"
    for bridge in bridges:
        name = bridge.name
        yield f'iifname "{name}" oifname "{name}" accept'
        if lab.networks[bridge.network].way_out == "internet":
            yield from (f'iifname "{name}" {family} daddr {{ {private} }} counter drop' for family, private in PRIVATE)
        if _has_way_out(plan, bridge):
            yield f'iifname "{name}" oifname != @bridges accept'
        yield f'iifname "{name}" counter drop'
    yield "oifname @bridges counter drop"
    yield "}"
    yield "chain input { type filter hook input priority 0; policy accept;"
    yield "iifname != @bridges accept"
    yield "ct state established,related accept"
    yield from capped
    yield "jump served"
    # Doors carried by QEMU are ports of this host; networks with a way out may use them like the LAN.
    places = list(smb_places(lab, plan))
    open_ports = sorted({f"{f.protocol} . {f.port}" for f in _carried_by_qemu(plan)})
    for bridge in bridges:
        if open_ports and _has_way_out(plan, bridge):
            yield f'iifname "{bridge.name}" meta l4proto . th dport {{ {", ".join(open_ports)} }} accept'
        if lab.networks[bridge.network].boot:
            yield f'iifname "{bridge.name}" udp dport 69 accept'
            yield f'iifname "{bridge.name}" tcp dport 80 accept'
        for address, server in sorted((p.guest, p.server) for _, p in places if p.network == bridge.network):
            yield f'iifname "{bridge.name}" ip saddr {address} ip daddr {server} tcp dport {PORT} accept'
        for allowed in lab.networks[bridge.network].to_host:
            wanted = "" if allowed.protocol == "all" else f"{allowed.protocol} dport {allowed.ports} "
            yield f'iifname "{bridge.name}" {wanted}accept'
    yield "counter drop"
    yield "}"


def _carried_by_qemu(plan: Plan) -> Iterator[Forward]:
    for door in plan.doors.values():
        if door.backend == "user" and door.door.from_lan and not door.listen.is_loopback:
            yield from door.forwards()


def _transit(lab: Lab, apart: Collection[int]) -> Iterator[str]:
    """Separate this host's other networks from each other, if forwarding was off before the lab. A bridge that this lab
    does not name is left alone: bridged traffic may pass here, too (Linux: bridge-nf-call-iptables), and its owner,
    such as a container engine, has rules of its own."""
    lans = sorted({f'"{n.interface}"' for n in lab.networks.values() if n.kind == "bridge" and n.interface})
    named = f"{{ {', '.join(lans)} }}"
    yield "chain transit { type filter hook forward priority 10; policy accept;"
    yield "ct state established,related accept"
    yield "ct status dnat accept"
    yield from (f"iifgroup {GROUP} accept", f"oifgroup {GROUP} accept")
    yield from (f"iifname {lan} oifname {lan} accept" for lan in lans)
    for direction in ("iif", "oif"):
        yield f'meta {direction}kind "bridge" {f"{direction}name != {named} " if lans else ""}accept'
    yield from (f"meta nfproto ipv{version} counter drop" for version in sorted(apart))
    yield "}"


def _has_way_out(plan: Plan, bridge: BridgeLink) -> bool:
    net = plan.networks[bridge.network]
    return net.kind == "nat" and not net.isolated
