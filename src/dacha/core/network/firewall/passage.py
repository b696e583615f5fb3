"""The way of a connection through this host's firewalls: every hook that its first packet and the replies pass, in
order (netfilter's hooks; nft(8), "ADDRESS FAMILIES").

A hook sees the packet as it is there: before connection tracking (priority -200) its state is "invalid"; the door's
address is replaced by the guest's at priority -100.
"""

from __future__ import annotations

from collections.abc import Iterator

from dacha.core.named import NamedTuple
from dacha.core.network.firewall.matches import Packet
from dacha.core.network.firewall.walk import Culprit, Hook, Rules, dropped_by

# The priorities of connection tracking and of the translation of addresses (nft(8), standard priority names).
_LEAST, TRACKED, TRANSLATED, _MOST = -(1 << 31), -200, -100, 1 << 31
# Hooks below IP: of a bridge, and of one device.
LINK = ("bridge", "netdev")


class Step(NamedTuple):
    """A hook on the way, and the packet as it is there. `back` marks the replies."""

    hook: Hook
    packet: Packet
    back: bool = False


class Stopped(NamedTuple):
    """What drops a packet on the way, and at which hook; `back` if it is a reply."""

    culprit: Culprit
    hook: str
    back: bool

    @property
    def below_ip(self) -> bool:
        """True for a rule of a bridge or a device, which may drop ARP as well."""
        return self.culprit.family in LINK


class Links(NamedTuple):
    """The links that a connection passes: towards the clients, the guest's network, the guest's own; "" for a missing
    one."""

    outer: str
    bridge: str = ""
    tap: str = ""


class Flow(NamedTuple):
    """A connection: its client (None for any), the address and port that it goes to, and the guest's, if it is led
    there."""

    version: int
    protocol: str
    client: str | None
    entry: str | None
    entry_port: int
    guest: str | None = None
    guest_port: int = 0


def first_stop(rules: Rules, steps: Iterator[Step], own: str, *, worst: bool = False) -> Stopped | None:
    """The first hook at which something certainly drops the first packet, a reply, or what the client sends next.
    With `worst`, what may drop one of them. Tables whose name begins with `own` are skipped."""
    passed = list(steps)
    then = [s._replace(packet=s.packet._replace(state="established")) for s in passed if s.packet.state == "new"]
    for step in (*passed, *then):
        if culprit := dropped_by(rules, step.hook, step.packet, own, worst=worst):
            return Stopped(culprit, step.hook.name, step.back)
    return None


def through(flow: Flow, links: Links) -> Iterator[Step]:
    """From a client on another machine through a door of the kernel to a guest, and back."""
    there, back = _entering(flow, links.outer), _reply(flow)
    arrived = there._replace(daddr=flow.guest, dport=flow.guest_port, dnat=True, local=False)
    yield _on_device("ingress", links.outer, there, back=False)
    yield from _at("prerouting", there, arrived)
    yield Step(Hook("forward"), arrived._replace(oifname=links.bridge))
    yield Step(Hook("postrouting"), arrived._replace(oifname=links.bridge))
    yield from _to_guest(arrived, links)
    yield from _from_guest(back, links)
    inward = back._replace(iifname=links.bridge, oifname="", local=False)
    yield from _at("prerouting", inward, inward, back=True)
    yield Step(Hook("forward"), inward._replace(oifname=links.outer), True)
    yield Step(Hook("postrouting"), inward._replace(oifname=links.outer), True)
    yield _on_device("egress", links.outer, inward._replace(saddr=flow.entry, sport=flow.entry_port), back=True)


def over_bridge(flow: Flow, links: Links, *, by_ip: bool) -> Iterator[Step]:
    """From a machine on the LAN to a guest on the same bridge, and back. With `by_ip` (Linux: bridge-nf-call-iptables)
    the chains of IP see what is bridged, too: it comes from the bridge and goes to it."""
    there = Packet(flow.version, "", "", flow.client, flow.guest, flow.protocol, flow.guest_port, local=False)
    for packet, into, out, back in (
        (there, links.outer, links.tap, False),
        (_reply(flow), links.tap, links.outer, True),
    ):
        # Which port the LAN is on may not be known.
        bridged = packet._replace(iifname=into or None, oifname=out or None, state="")
        if into:
            yield _on_device("ingress", into, packet, back=back)
        yield Step(Hook("prerouting", ("bridge",)), bridged._replace(oifname=""), back)
        if by_ip:
            seen = packet._replace(iifname=links.bridge, oifname="")
            yield from _at("prerouting", seen, seen, back=back)
            yield Step(Hook("forward"), seen._replace(oifname=links.bridge), back)
            yield Step(Hook("postrouting"), seen._replace(oifname=links.bridge), back)
        yield Step(Hook("forward", ("bridge",)), bridged, back)
        yield Step(Hook("postrouting", ("bridge",)), bridged, back)
        if out:
            yield _on_device("egress", out, packet, back=back)


def to_this_host(flow: Flow, links: Links) -> Iterator[Step]:
    """From a client on another machine to a program of this host, and back."""
    there, back = _entering(flow, links.outer), _reply(flow)
    yield _on_device("ingress", links.outer, there, back=False)
    yield from _at("prerouting", there, there)
    yield Step(Hook("input"), there)
    yield from _leaving(back._replace(oifname=links.outer), back=True)
    yield _on_device("egress", links.outer, back, back=True)


def arriving(packet: Packet) -> Iterator[Step]:
    """A packet that comes to a program of the machine whose rules these are."""
    if packet.iifname:
        yield _on_device("ingress", packet.iifname, packet, back=False)
    here = packet._replace(oifname="", local=True)
    yield from _at("prerouting", here, here)
    yield Step(Hook("input"), here)


def leaving(packet: Packet) -> Iterator[Step]:
    """A packet that a program of that machine sends."""
    yield from _leaving(packet._replace(iifname="", local=False))
    if packet.oifname:
        yield _on_device("egress", packet.oifname, packet, back=False)


def within_this_host(flow: Flow) -> Iterator[Step]:
    """From this host itself to a program of its own, at any of its addresses, and back."""
    there = Packet(flow.version, "", "lo", flow.entry, flow.entry, flow.protocol, flow.entry_port, local=True)
    back = _reply(flow)._replace(daddr=flow.entry, oifname="lo", local=True)
    for packet, replies in ((there, False), (back, True)):
        yield from _leaving(packet, back=replies)
        # It is tracked already when it comes in again.
        arrives = packet._replace(iifname="lo", oifname="")
        yield Step(Hook("prerouting"), arrives, replies)
        yield Step(Hook("input"), arrives, replies)


def from_this_host(flow: Flow, links: Links) -> Iterator[Step]:
    """From this host itself straight to a guest, and back."""
    there = Packet(flow.version, "", links.bridge, flow.client, flow.guest, flow.protocol, flow.guest_port, local=False)
    back = _reply(flow)
    yield from _leaving(there)
    yield from _to_guest(there, links)
    yield from _from_guest(back, links)
    inward = back._replace(iifname=links.bridge, oifname="", local=True)
    yield from _at("prerouting", inward, inward, back=True)
    yield Step(Hook("input"), inward, True)


def from_guest(flow: Flow, links: Links) -> Iterator[Step]:
    """From a guest to another machine (`client`, port `entry_port`), and back."""
    there = Packet(flow.version, "", "", flow.guest, flow.client, flow.protocol, flow.entry_port, local=False)
    for step in _from_guest(there, links):
        yield step._replace(back=False)
    inward = there._replace(iifname=links.bridge)
    yield from _at("prerouting", inward, inward)
    yield Step(Hook("forward"), inward._replace(oifname=links.outer))
    yield Step(Hook("postrouting"), inward._replace(oifname=links.outer))
    yield _on_device("egress", links.outer, inward._replace(saddr=None), back=False)
    # Where the replies go before they are translated back is not known: another host's address, or this one's.
    reply = Packet(
        flow.version, links.outer, "", flow.client, None, flow.protocol, None, False, "established", flow.entry_port
    )
    arrived = reply._replace(daddr=flow.guest, local=False)
    yield _on_device("ingress", links.outer, reply, back=True)
    yield from _at("prerouting", reply, arrived, back=True)
    yield Step(Hook("forward"), arrived._replace(oifname=links.bridge), True)
    yield Step(Hook("postrouting"), arrived._replace(oifname=links.bridge), True)
    for step in _to_guest(arrived, links):
        yield step._replace(back=True)


def _entering(flow: Flow, outer: str) -> Packet:
    return Packet(flow.version, outer, "", flow.client, flow.entry, flow.protocol, flow.entry_port, local=True)


def _reply(flow: Flow) -> Packet:
    """A reply: to a port that is not known."""
    source, port = (flow.guest, flow.guest_port) if flow.guest else (flow.entry, flow.entry_port)
    return Packet(
        flow.version, "", "", source, flow.client, flow.protocol, None, bool(flow.entry and flow.guest), "established",
        sport=port, local=False,
    )  # fmt: skip


def _on_device(hook: str, device: str, packet: Packet, *, back: bool) -> Step:
    """A hook of one device: there, connections are not tracked."""
    families = ("netdev", "inet") if hook == "ingress" else ("netdev",)
    into, out = (device, "") if hook == "ingress" else ("", device)
    return Step(Hook(hook, families, device), packet._replace(iifname=into, oifname=out, state="", dnat=False), back)


def _at(hook: str, before: Packet, after: Packet, *, back: bool = False) -> Iterator[Step]:
    """A hook with connection tracking and translation in it."""
    untracked = before._replace(state="invalid", dnat=False)
    yield Step(Hook(hook, priorities=(_LEAST, TRACKED - 1)), untracked, back)
    yield Step(Hook(hook, priorities=(TRACKED, TRANSLATED)), before, back)
    yield Step(Hook(hook, priorities=(TRANSLATED + 1, _MOST)), after, back)


def _leaving(packet: Packet, *, back: bool = False) -> Iterator[Step]:
    yield from _at("output", packet, packet, back=back)
    yield Step(Hook("postrouting"), packet, back)


def _to_guest(packet: Packet, links: Links) -> Iterator[Step]:
    """From the bridge to the guest's link."""
    if links.tap:
        leaves = packet._replace(iifname="", oifname=links.tap)
        yield _on_device("egress", links.bridge, leaves, back=False)
        yield Step(Hook("output", ("bridge",)), leaves)
        yield Step(Hook("postrouting", ("bridge",)), leaves)
        yield _on_device("egress", links.tap, leaves, back=False)


def _from_guest(packet: Packet, links: Links) -> Iterator[Step]:
    """From the guest's link to the bridge: before connection tracking."""
    if links.tap:
        arrives = packet._replace(iifname=links.tap, oifname="", state="")
        yield _on_device("ingress", links.tap, arrives, back=True)
        yield Step(Hook("prerouting", ("bridge",)), arrives, True)
        yield Step(Hook("input", ("bridge",)), arrives, True)
        yield _on_device("ingress", links.bridge, arrives, back=True)
