"""What each tap may send, in the lab's table of the family bridge: only there ARP and frame types are visible."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from dacha.core.lab.model import Lab
from dacha.core.lab.names import link_local
from dacha.core.network.door_rules import named_set
from dacha.core.network.links import KernelPlan, tap_group
from dacha.core.network.marks import in_bridge
from dacha.core.plan.plan import Plan


def pins(lab: Lab, plan: Plan, kernel: KernelPlan, plugged: Sequence[str] = ()) -> Iterator[str]:
    """What each tap may send, by frame type: everything else is dropped, including tagged frames, whose type is the
    tag's (IEEE 802.1Q). An adapter that routes may use any address, and so may other programs' links (`plugged`)."""
    pinned, free, hardware, addresses, addresses6, advertised, asks = [], [], [], [], [], [], []
    for tap in kernel.taps():
        adapter = plan.adapters[tap.guest, tap.adapter]
        if lab.guests[tap.guest].adapters[tap.adapter].routes or not tap.confined:
            free.append(f'"{tap.name}"')
            continue
        pinned.append(f'"{tap.name}"')
        hardware.append(f'"{tap.name}" . {adapter.hardware_address}')
        # A DHCP client states its hardware address: chaddr (RFC 2131 section 2) must be the tap's own.
        own = int(adapter.hardware_address.replace(":", ""), 16)
        asks.append(f'iifname "{tap.name}" @th,64,24 0x010106 @th,288,48 {own:#x} accept')
        # Before it has an address, a guest sends from the unspecified address (RFC 2131 section 4.1, RFC 5227 section
        # 1.1).
        addresses += [f'"{tap.name}" . {a}' for a in ("0.0.0.0", adapter.address) if a]
        if adapter.address6:
            addresses6.append(f'"{tap.name}" . {adapter.address6}')
            advertised.append(f'iifname "{tap.name}" @th,64,128 {int(adapter.address6):#x} accept')
    gateways = [link_local(b.hardware_address) for b in kernel.bridges()]
    # The address that a guest advertises to its neighbours (RFC 4861 section 4.4): the target, which nft cannot match
    # by name yet.
    yield "chain advertised {"
    yield from (f"@th,64,128 {int(a):#x} counter drop" for a in gateways)
    yield from ("@th,64,10 0x3fa accept", *advertised, "counter drop", "}")
    yield from ("chain asks {", *asks, "counter drop", "}")
    yield from named_set("pinned", "ifname", pinned)
    yield from named_set("free", "ifname", free)
    yield from named_set("hardware", "ifname . ether_addr", hardware)
    yield from named_set("addresses", "ifname . ipv4_addr", addresses)
    yield from named_set("addresses6", "ifname . ipv6_addr", addresses6)
    yield from named_set("gateways", "ipv6_addr", map(str, gateways))
    confined = [f'"{t.name}"' for t in kernel.taps() if t.confined]
    if confined:
        yield from named_set("confined", "ifname", confined)
    if plugged:
        yield from named_set("plugged", "ifname", [f'"{p}"' for p in plugged])
    yield from in_bridge(kernel.bridges(), bool(confined), bool(plugged))
    yield from _chains(tap_group(lab.name))


def _chains(group: int) -> tuple[str, ...]:
    """The chains that use these sets, for the taps of this group. Only this host may assign addresses or advertise
    routers (RFC 7610, RFC 6105)."""
    return (
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
        f"iifgroup {group} iifname != @pinned iifname != @free counter drop",
        "iifname != @pinned accept",
        "iifname . ether saddr != @hardware counter drop",
        "ether type ip jump says_ip",
        "ether type arp jump says_arp",
        "ether type ip6 jump says_ip6",
        "counter drop",
        "}",
    )
