"""Whether the kernel forwards packets of clients on the LAN to guests, and the replies: by its forwarding of each link,
its routes and policy rules, and its reverse path filters."""

from __future__ import annotations

from collections.abc import Iterable

from dacha.core.lab.names import link_name
from dacha.core.trace.seen.results import Unforwarded
from dacha.host.network import addresses, iproute, sysctls


def all_forwarded(lab: str, guests: Iterable[tuple[str, str]]) -> bool:
    """True if the kernel forwards a LAN client's packets to each of these guests (network, IPv4 address) and the
    replies: one question for all."""
    outer, client = addresses.lan_interface(), next(iter(addresses.lan_clients()), None)
    if outer is None or client is None:
        return True  # no client is known that it would not forward
    ways, wanted = [], []
    for network, address in guests:
        bridge = link_name(lab, "network", network)
        ways += [(address, str(client), outer), (str(client), address, bridge)]
        wanted += [bridge, outer]
    return iproute.forwarded_together(ways) == wanted


def unforwarded(lab: str, network: str, address: str, asker: str | None) -> Unforwarded | None:
    """Whether the kernel forwards a client's packets to a guest, and the guest's replies; None if it does, or if there
    is no client that represents the others."""
    outer, bridge = addresses.lan_interface(), link_name(lab, "network", network)
    clients = [str(a) for a in addresses.lan_clients()]
    if asker and ":" not in asker:
        # It may come another way than the LAN's machines.
        clients, outer = [asker], iproute.way_to(asker)
    if outer in (None, "lo") or ":" in address:
        return None
    found = None
    # An address of this host itself represents no client.
    for client in [c for c in clients if iproute.way_to(c) != "lo"]:
        # A route for one client alone says nothing about the others.
        ways = ((str(outer), client, address, bridge), (bridge, address, client, str(outer)))
        if (found := _wrong(ways)) is None:
            return None
    return found


def unforwarded_outward(lab: str, network: str, address: str, target: str) -> Unforwarded | None:
    """Whether the kernel forwards a guest's packets to a target beyond this host, and the replies; None if it does, or
    if the target is not beyond it."""
    outer, bridge = iproute.way_to(target), link_name(lab, "network", network)
    if outer in (None, "lo", bridge):
        return None
    return _wrong(((bridge, address, target, str(outer)), (str(outer), target, address, bridge)))


def _wrong(ways: Iterable[tuple[str, str, str, str]]) -> Unforwarded | None:
    """The first of these (link, source, destination, wanted link) that the kernel does not forward as wanted."""
    for link, source, to, wanted in ways:
        goes, reason = iproute.forwarded(to, source, link)
        if goes != wanted:
            off = sysctls.read(f"net/ipv4/conf/{link}/forwarding") == "0"
            return Unforwarded(link, source, to, wanted, goes, reason, off)
    return None
