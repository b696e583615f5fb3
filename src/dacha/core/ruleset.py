"""A lab's nftables rules as one text, loaded in one transaction: doors, NAT, isolation, and what a guest may send as.

Doors are elements of maps, so that ten thousand of them cost one lookup. Everything about IP is in one table of the
family inet; who may use which address on a wire is told in a second one of the family bridge, which alone sees ARP.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from dacha.core.door_plan import ANYWHERE, Address, DoorPlan, Forward
from dacha.core.identity import link_local
from dacha.core.kernel_plan import BridgeLink, KernelPlan
from dacha.core.lab import Lab
from dacha.core.plan import Plan

FAMILIES = ("inet", "bridge")
# The maps of doors: at every address of this host, at one of them, and on its loopback for itself alone.
_DOOR_MAPS = ("doors", "doors6", "doors_there", "doors_there6", "doors_here")
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
    doors = _Doors([d for d in plan.doors.values() if d.carrier == "kernel"])
    bridges = kernel.bridges()
    lines += [*_loopback(), *doors.declarations(), *doors.chains()]
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


def door_element(plan: DoorPlan, forward: Forward) -> tuple[str, str]:
    """The map in which one of a door's ports is looked up, and its key there."""
    name = _map_of(plan)
    listen = "" if name == "doors" else f" . {forward.listen}"
    return name, f"{forward.protocol}{listen} . {forward.port}"


def _map_of(plan: DoorPlan) -> str:
    if not plan.door.from_lan:
        return "doors_here"
    if plan.listen is ANYWHERE or plan.listen == ANYWHERE:
        return "doors"
    return "doors_there" if plan.listen.version == 4 else "doors_there6"


class _Doors:
    """Host ports that lead to guests, as elements of the maps that the two hooks look them up in.

    A door at every address of this host is in `doors`, one at a single address in `doors_there`; those that only this
    host itself may enter are in `doors_here`, which nothing that comes in by a link is ever looked up in.
    """

    def __init__(self, doors: list[DoorPlan]) -> None:
        self.maps: dict[str, list[str]] = {name: [] for name in _DOOR_MAPS}
        self.limited: list[str] = []
        self.allowed: dict[int, list[str]] = {4: [], 6: []}
        # Ten thousand doors are written here: addresses are turned into text once, and no value is made for each port.
        self._texts: dict[Address, str] = {}
        for plan in doors:
            self._add(plan)

    def _text(self, address: Address) -> str:
        known = self._texts.get(address)
        if known is None:
            known = self._texts[address] = str(address)
        return known

    def _add(self, plan: DoorPlan) -> None:
        adapter, port, to, protocol = plan.adapter, plan.port, plan.door.to.first, plan.door.protocol
        if plan.means != "forward" or adapter is None or port is None:
            return
        name = _map_of(plan)
        inside = adapter.address6 if name.endswith("6") else adapter.address
        if inside is None:
            return
        elements = self.maps[name]
        for n in range(port.last - port.first + 1):
            at, behind = f"{protocol} . {port.first + n}", to + n
            if name == "doors":
                elements.append(f"{at} : {self._text(inside)} . {behind}")
                if adapter.address6:
                    self.maps["doors6"].append(f"{at} : {self._text(adapter.address6)} . {behind}")
            else:
                listen = f"{protocol} . {self._text(plan.listen)} . {port.first + n}"
                elements.append(f"{listen} : {self._text(inside)} . {behind}")
            if plan.door.allow:
                self.limited.append(at)
                for source in plan.door.allow:
                    self.allowed[source.version].append(f"{at} . {source}")

    def declarations(self) -> Iterator[str]:
        """The maps and sets. Only what some door needs is written: each rule costs every new connection a moment."""
        key = "inet_proto . inet_service"
        for name, elements in self.maps.items():
            at = "ipv6_addr" if name.endswith("6") else "ipv4_addr"
            place = key if name in ("doors", "doors6") else f"inet_proto . {at} . inet_service"
            if elements:
                yield from _set(name, f"{place} : {at} . inet_service", elements, what="map")
        if self.limited:
            yield from _set("limited", key, self.limited)
            for version, name in ((4, "allowed"), (6, "allowed6")):
                yield from _set(name, f"{key} . ipv{version}_addr", self.allowed[version], flags="interval")

    def chains(self) -> Iterator[str]:
        """Who is led where: what comes in by a link, and what this host itself sends."""
        if self.limited:
            # A door with source limits is shut before it leads anywhere; this host itself is never outside.
            yield "chain limits { type filter hook prerouting priority -150; policy accept;"
            yield "ct state established accept"
            here = "fib daddr type local meta l4proto . th dport @limited"
            yield f"{here} meta nfproto ipv4 meta l4proto . th dport . ip saddr != @allowed counter drop"
            yield f"{here} meta nfproto ipv6 meta l4proto . th dport . ip6 saddr != @allowed6 counter drop"
            yield "}"
        for chain, hook in (("entered", "prerouting"), ("entered_here", "output")):
            rules = [
                self._rule(name)
                for name, elements in self.maps.items()
                if elements and (hook == "output" or name != "doors_here")
            ]
            if rules:
                yield from (f"chain {chain} {{ type nat hook {hook} priority -100; policy accept;", *rules, "}")

    @staticmethod
    def _rule(name: str) -> str:
        family = "ip6" if name.endswith("6") else "ip"
        if name in ("doors", "doors6"):
            return f"fib daddr type local dnat {family} to meta l4proto . th dport map @{name}"
        return f"dnat {family} to meta l4proto . {family} daddr . th dport map @{name}"


def _loopback() -> Iterator[str]:
    """This host's loopback is nobody else's: the bridges' `route_localnet`, by which answers to it find their way
    back, would let packets for it in, and whatever leads doors would meet them before routing refuses them. (IPv6 has
    no such setting: ::1 from a link is dropped before any hook, RFC 4291 section 2.5.3.)"""
    yield "chain loopback { type filter hook prerouting priority -300; policy accept;"
    yield 'iifname != "lo" ip daddr 127.0.0.0/8 counter drop'
    yield 'iifname != "lo" ip saddr 127.0.0.0/8 counter drop'
    yield "}"


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
    """What each tap may send, told apart by kind of frame: all else is dropped, tagged frames too, whose kind is the
    tag's (IEEE 802.1Q). An adapter that routes may use any address."""
    pinned, hardware, addresses, addresses6, advertised, asks = [], [], [], [], [], []
    for tap in kernel.taps():
        adapter = plan.adapters[tap.guest, tap.adapter]
        if lab.guests[tap.guest].adapters[tap.adapter].routes or not lab.networks[adapter.network].served:
            continue
        pinned.append(f'"{tap.name}"')
        hardware.append(f'"{tap.name}" . {adapter.hardware_address}')
        # A client that asks for an address says whose it is to be: chaddr (RFC 2131 section 2) is the tap's own.
        own = int(adapter.hardware_address.replace(":", ""), 16)
        asks.append(f'iifname "{tap.name}" @th,64,24 0x010106 @th,288,48 {own:#x} accept')
        # Before it has an address a guest sends from none (RFC 2131 section 4.1, RFC 5227 section 1.1).
        addresses += [f'"{tap.name}" . {a}' for a in ("0.0.0.0", adapter.address) if a]
        if adapter.address6:
            addresses6.append(f'"{tap.name}" . {adapter.address6}')
            advertised.append(f'iifname "{tap.name}" @th,64,128 {int(adapter.address6):#x} accept')
    gateways = [link_local(b.hardware_address) for b in kernel.bridges()]
    # Whom a guest says it is to its neighbours (RFC 4861 section 4.4): the target, for which nft has no word yet.
    yield "chain advertised {"
    yield from (f"@th,64,128 {int(a):#x} counter drop" for a in gateways)
    yield from ("@th,64,10 0x3fa accept", *advertised, "counter drop", "}")
    yield from ("chain asks {", *asks, "counter drop", "}")
    yield from _set("pinned", "ifname", pinned)
    yield from _set("hardware", "ifname . ether_addr", hardware)
    yield from _set("addresses", "ifname . ipv4_addr", addresses)
    yield from _set("addresses6", "ifname . ipv6_addr", addresses6)
    yield from _set("gateways", "ipv6_addr", map(str, gateways))
    # Nobody but this host hands out addresses or says where the way out is (RFC 7610, RFC 6105).
    yield from (
        "chain says_ip {",
        "udp sport 67 counter drop",
        "iifname . ip saddr != @addresses counter drop",
        "udp dport 67 jump asks",
        "accept",
        "}",
        "chain says_arp {",
        "arp htype 1 arp hlen 6 arp plen 4 iifname . arp saddr ip @addresses accept",
        "counter drop",
        "}",
        "chain says_ip6 {",
        "udp sport 547 counter drop",
        "icmpv6 type nd-router-advert counter drop",
        "ip6 saddr @gateways counter drop",
        "ip6 saddr != { ::, fe80::/10 } iifname . ip6 saddr != @addresses6 counter drop",
        "icmpv6 type nd-neighbor-advert jump advertised",
        "accept",
        "}",
        "chain pins { type filter hook prerouting priority -300; policy accept;",
        "iifname != @pinned accept",
        "iifname . ether saddr != @hardware counter drop",
        "ether type ip jump says_ip",
        "ether type arp jump says_arp",
        "ether type ip6 jump says_ip6",
        "counter drop",
        "}",
    )
