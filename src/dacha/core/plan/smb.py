"""The address of a guest's SMB shares: this host's own address in a network of the lab."""

from __future__ import annotations

from collections.abc import Iterator
from ipaddress import IPv4Address

from dacha.core.lab.model import Guest, Lab
from dacha.core.named import NamedTuple
from dacha.core.plan.plan import Plan

# SMB over TCP without NetBIOS (MS-SMB2 section 2.1).
PORT = 445
# The one account of a guest's server: each guest has a server and a password of its own.
USER = "share"


class SmbPlace(NamedTuple):
    """The network that carries a guest's shares, this host's address there, and the guest's own, which
    identifies it."""

    network: str
    server: IPv4Address
    guest: IPv4Address


def smb_place(lab: Lab, plan: Plan, guest: Guest) -> SmbPlace | None:
    """Where a guest's shares are; None without SMB shares, or without a kernel network with a planned address: only
    there does an address identify a guest."""
    if not any(share.by_smb for share in guest.shares):
        return None
    for adapter in plan.adapters_of(guest.name):
        network, gateway = lab.networks.get(adapter.network), plan.networks[adapter.network].gateway
        if network and network.managed and gateway and adapter.address:
            return SmbPlace(adapter.network, gateway, adapter.address)
    return None


def smb_places(lab: Lab, plan: Plan) -> Iterator[tuple[Guest, SmbPlace]]:
    """Every guest that has SMB shares and an address for them."""
    for guest in lab.guests.values():
        if guest.shares and (place := smb_place(lab, plan, guest)):
            yield guest, place
