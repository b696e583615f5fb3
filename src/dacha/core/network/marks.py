"""How a lab's networks stay closed while its rules are missing: every packet must carry a mark that only the
rules set.

A filter on each tap and bridge (Linux: tc-bpf(8)) drops packets without the mark. It belongs to the link, so a flush of
nftables by another program does not remove it: without the rules no packet passes, in either direction. Each link
requires two bits of the mark, one from each of the lab's tables, so that one missing table also closes the networks.
"""

from __future__ import annotations

from collections.abc import Collection, Iterator, Sequence

from dacha.core.network.links import GROUP, BridgeLink, Link, TapLink

# Bits of the packet mark (Linux: skb mark, 32 bits); the others are not changed. The table bridge sets UP on packets
# that it admits to a bridge, and DOWN on those that it delivers to a tap; the table inet sets IP on packets in either
# direction. UP and DOWN differ, so that a packet routed from one bridge to another is checked again. FORWARD is set on
# what a host that forwards only for the labs' sake may forward (`host/network/transit.py`).
FORWARD, UP, IP, DOWN = 0x01000000, 0x02000000, 0x04000000, 0x08000000
ALL = UP | IP | DOWN
# The kernel allows 256 devices in a chain (NFT_NETDEVHOOK_MAX).
DEVICES_MOST = 200
_SKB_MARK = 0xFFFFF000 + 20  # linux/filter.h: SKF_AD_OFF + SKF_AD_MARK


def drop_filter(link: Link) -> tuple[str, str] | None:
    """The filter of a link: its direction, and its program in classic BPF (linux/filter.h) as tc-bpf(8) writes it:
    return 0 (TC_ACT_OK) for a marked packet, else 2 (TC_ACT_SHOT). None for a link without one."""
    if isinstance(link, BridgeLink):
        direction, bits = "ingress", UP | IP
    elif isinstance(link, TapLink) and link.confined:
        direction, bits = "egress", DOWN | IP
    else:
        return None
    steps = ((0x20, 0, 0, _SKB_MARK), (0x54, 0, 0, bits), (0x15, 0, 1, bits), (0x06, 0, 0, 0), (0x06, 0, 0, 2))
    return direction, ",".join([str(len(steps)), *(" ".join(map(str, step)) for step in steps)])


def in_inet(bridges: bool, taps: Sequence[str]) -> Iterator[str]:
    """The chains of the table inet that set marks: for traffic from these taps, and for traffic of this host to a
    bridge."""
    for n in range(0, len(taps), DEVICES_MOST):
        devices = ", ".join(f'"{t}"' for t in taps[n : n + DEVICES_MOST])
        yield f"chain from_taps{n // DEVICES_MOST} {{ type filter hook ingress devices = {{ {devices} }} priority 0;"
        yield from ("policy accept;", f"meta mark set meta mark or {IP:#x}", "}")
    if bridges:
        yield "chain to_bridges { type filter hook postrouting priority 310; policy accept;"
        yield from (f"oifname @bridges meta mark set meta mark or {IP:#x}", "}")
        # Where bridged packets pass this host's IP hooks (bridge-nf-call-iptables), another program's rules before
        # routing may replace the whole mark (iptables -j MARK --set-mark, CONNMARK --restore-mark): it is set again.
        yield "chain marked_again { type filter hook prerouting priority 310; policy accept;"
        yield from (f"iifname @bridges meta mark set meta mark or {IP:#x}", "}")
        # Other rules of this host do not need the mark.
        for hook, leaving in (("input", ""), ("forward", "oifname != @bridges ")):
            yield f"chain unmark_{hook} {{ type filter hook {hook} priority -310; policy accept;"
            yield from (f"iifname @bridges {leaving}meta mark set meta mark and {0xFFFFFFFF ^ ALL:#x}", "}")


def forwarded(others: Collection[str]) -> Iterator[str]:
    """The chain of the table inet that marks what may be forwarded, before routing: traffic of a lab, and traffic of
    other programs' bridges (`others`), which have rules of their own."""
    mark = f"meta mark set meta mark or {FORWARD:#x}"
    yield "chain forwarded { type filter hook prerouting priority -90; policy accept;"
    yield from (f"ct state established,related {mark}", f"ct status dnat {mark}", f"iifgroup {GROUP} {mark}")
    yield f'meta iifkind "bridge" {mark}'
    if others:
        names = ", ".join(f'"{name}"' for name in others)
        yield f"fib daddr oifname {{ {names} }} {mark}"
    yield "}"


def in_bridge(bridges: Collection[BridgeLink], confined: bool, plugged: bool) -> Iterator[str]:
    """The chains of the table bridge that set marks, for its sets `confined` (the lab's taps) and `plugged` (other
    programs' links in the lab's bridges). Packets that the pins dropped do not get here."""
    if confined or plugged:
        yield "chain admitted { type filter hook prerouting priority -290; policy accept;"
        if confined:
            yield f"iifname @confined meta mark set meta mark or {UP:#x}"
            # The family inet does not see ARP (Linux: nft_do_chain_inet_ingress).
            yield f"iifname @confined ether type arp meta mark set meta mark or {IP:#x}"
        if plugged:
            yield f"iifname @plugged meta mark set meta mark or {UP | IP:#x}"
        yield "}"
    if confined or plugged:
        # After this host's IP hooks: see `in_inet`. Only what was admitted gets here.
        yield "chain admitted_again { type filter hook input priority 310; policy accept;"
        if confined:
            yield f"iifname @confined meta mark set meta mark or {UP:#x}"
        if plugged:
            yield f"iifname @plugged meta mark set meta mark or {UP | IP:#x}"
        yield "}"
    if confined:
        yield "chain delivered { type filter hook postrouting priority 310; policy accept;"
        yield f"oifname @confined meta mark set meta mark or {DOWN:#x}"
        # This host's own ARP, and DHCP answers that the caretaker sends as frames, pass no hook of the table inet.
        yield f"oifname @confined ether type arp meta mark set meta mark or {IP:#x}"
        own = ", ".join(sorted({a.partition("/")[0] for b in bridges for a in b.addresses if ":" not in a}))
        if own:
            yield f"oifname @confined ip saddr {{ {own} }} udp sport 67 meta mark set meta mark or {IP:#x}"
        yield "}"
