"""A lab's nftables rules as one text, loaded in one transaction: doors, NAT, isolation, and what a guest may send as.

Doors are elements of maps, so that ten thousand of them cost one lookup. Everything about IP is in one table of the
family inet; who may use which address on a wire is told in a second one of the family bridge, which alone sees ARP.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from dacha.core.door_plan import ANYWHERE, Address, DoorPlan
from dacha.core.kernel_plan import BridgeLink, KernelPlan
from dacha.core.lab import Lab
from dacha.core.plan import Plan

FAMILIES = ("inet", "bridge")
# What a guest needs of this host itself on a network that is shut: DHCP, DNS, and answers to its pings.
_SERVED = (
    "udp dport { 53, 67, 547 } accept",
    "tcp dport 53 accept",
    "meta l4proto { icmp, ipv6-icmp } accept",
)


def table_name(lab: str) -> str:
    """The table of a lab. A lab's name has dashes, which nft takes in names only here and there."""
    return "dacha_" + lab.replace("-", "_")


def ruleset(lab: Lab, plan: Plan, kernel: KernelPlan) -> str:
    """The whole text for `nft -f`: it replaces what the lab had before, and nothing else's."""
    name = table_name(lab.name)
    lines = [line for family in FAMILIES for line in (f"table {family} {name}", f"delete table {family} {name}")]
    lines += [f"table inet {name} {{", f'comment "the lab {lab.name}, by dacha"']
    lines += _doors([d for d in plan.doors.values() if d.carrier == "kernel"])
    bridges = kernel.bridges()
    lines += _set("bridges", "ifname", [f'"{b.name}"' for b in bridges])
    lines += _nat(plan, bridges)
    lines += _filters(plan, bridges)
    lines += ["}", f"table bridge {name} {{", *_pins(lab, plan, kernel), "}"]
    return "\n".join(lines) + "\n"


def removal(lab: str) -> str:
    """The text that takes a lab's tables away. A table is named first, so that one that is gone is no error."""
    name = table_name(lab)
    return "".join(f"table {family} {name}\ndelete table {family} {name}\n" for family in FAMILIES)


def _set(name: str, kind: str, elements: Iterable[str], *, what: str = "set", flags: str = "") -> list[str]:
    inside = ", ".join(elements)
    lines = [f"{what} {name} {{ type {kind};"]
    if flags:
        lines.append(f"flags {flags};")
    if inside:
        lines.append(f"elements = {{ {inside} }}")
    return [*lines, "}"]


def _doors(doors: list[DoorPlan]) -> Iterator[str]:
    """Host ports that lead to guests: at every address of this host, or at one.

    Only what some door needs is written: each rule costs every new connection a moment.
    """
    anywhere, anywhere6, limited = [], [], []
    there: dict[int, list[str]] = {4: [], 6: []}
    allowed: dict[int, list[str]] = {4: [], 6: []}
    # Ten thousand doors are written here: addresses are turned into text once, and no value is made for each port.
    texts: dict[Address, str] = {}

    def text(address: Address) -> str:
        known = texts.get(address)
        if known is None:
            known = texts[address] = str(address)
        return known

    for plan in doors:
        adapter, port, to, protocol = plan.adapter, plan.port, plan.door.to.first, plan.door.protocol
        if plan.means != "forward" or adapter is None or port is None:
            continue
        everywhere, version = plan.listen is ANYWHERE or plan.listen == ANYWHERE, plan.listen.version
        inside = adapter.address if version == 4 else adapter.address6
        if inside is None:
            continue
        for n in range(port.last - port.first + 1):
            at, behind = f"{protocol} . {port.first + n}", to + n
            if everywhere:
                anywhere.append(f"{at} : {text(inside)} . {behind}")
                if adapter.address6:
                    anywhere6.append(f"{at} : {text(adapter.address6)} . {behind}")
            else:
                listen = f"{protocol} . {text(plan.listen)} . {port.first + n}"
                there[version].append(f"{listen} : {text(inside)} . {behind}")
            if plan.door.allow:
                limited.append(at)
                for source in plan.door.allow:
                    allowed[source.version].append(f"{at} . {source}")
    key = "inet_proto . inet_service"
    rules = []
    if anywhere:
        yield from _set("doors", f"{key} : ipv4_addr . inet_service", anywhere, what="map")
        rules.append("fib daddr type local dnat ip to meta l4proto . th dport map @doors")
    for version, family, name in ((4, "ip", "doors_there"), (6, "ip6", "doors6_there")):
        if there[version]:
            at = f"ipv{version}_addr"
            place = f"inet_proto . {at} . inet_service : {at} . inet_service"
            yield from _set(name, place, there[version], what="map")
            rules.append(f"dnat {family} to meta l4proto . {family} daddr . th dport map @{name}")
    if anywhere6:
        yield from _set("doors6", f"{key} : ipv6_addr . inet_service", anywhere6, what="map")
        rules.append("fib daddr type local dnat ip6 to meta l4proto . th dport map @doors6")
    if limited:
        # A door with source limits is shut before it leads anywhere; this host itself is never outside.
        yield from _set("limited", key, limited)
        for version, name in ((4, "allowed"), (6, "allowed6")):
            yield from _set(name, f"{key} . ipv{version}_addr", allowed[version], flags="interval")
        yield "chain limits { type filter hook prerouting priority -150; policy accept;"
        yield "ct state established accept"
        here = "fib daddr type local meta l4proto . th dport @limited"
        yield f"{here} meta nfproto ipv4 meta l4proto . th dport . ip saddr != @allowed counter drop"
        yield f"{here} meta nfproto ipv6 meta l4proto . th dport . ip6 saddr != @allowed6 counter drop"
        yield "}"
    if rules:
        for chain, hook in (("entered", "prerouting"), ("entered_here", "output")):
            yield from (f"chain {chain} {{ type nat hook {hook} priority -100; policy accept;", *rules, "}")


def _nat(plan: Plan, bridges: list[BridgeLink]) -> Iterator[str]:
    yield "chain sources { type nat hook postrouting priority 100; policy accept;"
    # From this host's loopback: the guest must answer to an address that it can.
    yield "oifname @bridges ip saddr 127.0.0.0/8 masquerade"
    for bridge in bridges:
        net = plan.networks[bridge.network]
        for family, subnet in (("ip", net.subnet), ("ip6", net.subnet6)):
            if subnet is None:
                continue
            # A guest that enters a door of its own network: its neighbour must not answer it directly.
            yield f"{family} saddr {subnet} {family} daddr {subnet} ct status dnat masquerade"
            if _has_way_out(plan, bridge):
                yield f"{family} saddr {subnet} oifname != @bridges masquerade"
    yield "}"


def _filters(plan: Plan, bridges: list[BridgeLink]) -> Iterator[str]:
    """Who may pass. Only what comes from or goes to this lab's bridges is judged; all else is let by untouched."""
    yield "chain forward { type filter hook forward priority 0; policy accept;"
    yield "ct state established,related accept"
    doored = [f'"{b.name}"' for b in bridges if plan.networks[b.network].kind == "nat"]
    if doored:
        # A door may be entered from anywhere but a network that has no way out.
        shut = [f'"{b.name}"' for b in bridges if not _has_way_out(plan, b)]
        outside = f"iifname != {{ {', '.join(shut)} }} " if shut else ""
        yield f"{outside}oifname {{ {', '.join(doored)} }} ct status dnat accept"
    for bridge in bridges:
        name = bridge.name
        yield f'iifname "{name}" oifname "{name}" accept'
        if _has_way_out(plan, bridge):
            yield f'iifname "{name}" oifname != @bridges accept'
        yield f'iifname "{name}" counter drop'
    yield "oifname @bridges counter drop"
    yield "}"
    isolated = [b.name for b in bridges if plan.networks[b.network].isolated]
    if isolated:
        yield "chain input { type filter hook input priority 0; policy accept;"
        yield "ct state established,related accept"
        for name in isolated:
            yield from (f'iifname "{name}" {rule}' for rule in _SERVED)
            yield f'iifname "{name}" counter drop'
        yield "}"


def _has_way_out(plan: Plan, bridge: BridgeLink) -> bool:
    net = plan.networks[bridge.network]
    return net.kind == "nat" and not net.isolated


def _pins(lab: Lab, plan: Plan, kernel: KernelPlan) -> Iterator[str]:
    """Which hardware and source addresses each tap may send with; an adapter that routes may use any address."""
    pinned, hardware, addresses, addresses6, advertised = [], [], [], [], []
    for tap in kernel.taps():
        adapter = plan.adapters[tap.guest, tap.adapter]
        if lab.guests[tap.guest].adapters[tap.adapter].routes or not lab.networks[adapter.network].served:
            continue
        pinned.append(f'"{tap.name}"')
        hardware.append(f'"{tap.name}" . {adapter.hardware_address}')
        # Before it has an address a guest sends from none (RFC 2131 section 4.1, RFC 5227 section 1.1).
        addresses += [f'"{tap.name}" . {a}' for a in ("0.0.0.0", adapter.address) if a]
        if adapter.address6:
            addresses6.append(f'"{tap.name}" . {adapter.address6}')
            advertised.append(f'iifname "{tap.name}" @th,64,128 {int(adapter.address6):#x} accept')
    # Whom a guest says it is to its neighbours (RFC 4861 section 4.4): the target, for which nft has no word yet.
    yield from ("chain advertised {", "@th,64,10 0x3fa accept", *advertised, "counter drop", "}")
    yield from _set("pinned", "ifname", pinned)
    yield from _set("hardware", "ifname . ether_addr", hardware)
    yield from _set("addresses", "ifname . ipv4_addr", addresses)
    yield from _set("addresses6", "ifname . ipv6_addr", addresses6)
    yield from (
        "chain pins { type filter hook prerouting priority -300; policy accept;",
        "iifname != @pinned accept",
        "iifname . ether saddr != @hardware counter drop",
        # Nobody but this host hands out addresses or says where the way out is (RFC 7610, RFC 6105).
        "ether type ip udp sport 67 counter drop",
        "ether type ip6 udp sport 547 counter drop",
        "ether type ip6 icmpv6 type nd-router-advert counter drop",
        "ether type ip6 icmpv6 type nd-neighbor-advert jump advertised",
        "ether type arp iifname . arp saddr ip != @addresses counter drop",
        "ether type ip iifname . ip saddr != @addresses counter drop",
        "ether type ip6 ip6 saddr != { ::, fe80::/10 } iifname . ip6 saddr != @addresses6 counter drop",
        "}",
    )
