"""Before a guest starts: whether its address on a bridged LAN is already in use there."""

from __future__ import annotations

from ipaddress import IPv4Address

from dacha.core.errors import HostError
from dacha.core.network.links import lan_link
from dacha.engine.workspace import Workspace


def duplicates(ws: Workspace, names: list[str]) -> dict[str, HostError]:
    """Guests that must not start because their address on a bridged LAN is already in use, each with the error."""
    asked: dict[tuple[str, IPv4Address], tuple[str, str]] = {}
    for name in names:
        for adapter in ws.plan.adapters_of(name):
            network = ws.lab.networks[adapter.network]
            lan = lan_link(ws.lab, network)
            if lan and adapter.address:
                asked[lan, adapter.address] = (name, network.name)
    if not asked:
        return {}
    from dacha.host.network import arp, iproute

    own = {a.partition("/")[0]: link.name for link in iproute.links().values() for a in link.addresses}
    found = {key: f"this host itself, on {own[str(key[1])]}" for key in asked if str(key[1]) in own}
    try:
        found |= arp.owners(key for key in asked if key not in found)
    except HostError as e:
        return {name: e for name, _ in asked.values()}
    return {
        asked[key][0]: HostError(
            f"{key[1]} is already in use on {asked[key][1]}, by {who}",
            why="two machines with the same address would disrupt each other's traffic",
            remedy=f"choose another for {asked[key][0]}: dacha guest edit {asked[key][0]} --address "
            f"{asked[key][1]}=ADDRESS",
        )
        for key, who in found.items()
    }
