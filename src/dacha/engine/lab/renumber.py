"""Move a network to another subnet, with everything in the file that contains its addresses."""

from __future__ import annotations

from collections.abc import Iterator
from ipaddress import IPv4Address, IPv4Network

from dacha.core.errors import BadValue, UsageError
from dacha.core.lab import address_fields
from dacha.core.lab.text.edits import Edit, Set
from dacha.engine.workspace import Workspace


def renumber(ws: Workspace, name: str, text: str) -> list[Edit]:
    """The edits that move the network `name` to the subnet in `text`: each address keeps its position.

    Raises UsageError for an invalid subnet, or one that is too small.
    """
    try:
        after = address_fields.subnet4(text)
    except BadValue as e:
        raise UsageError(f"--renumber: {e.what}", remedy=e.remedy) from None
    network, before = ws.lab.networks[name], ws.plan.networks[name].subnet
    if before is None:
        raise UsageError(
            f"network {name} has no subnet to renumber", remedy=f"dacha network edit {name} --subnet {after}"
        )
    here = ("network", name)
    edits: list[Edit] = [Set((*here, "subnet"), str(after))]
    if network.gateway:
        edits.append(Set((*here, "gateway"), str(_moved(network.gateway, before, after))))
    if network.dynamic:
        first, last = (_moved(a, before, after) for a in network.dynamic)
        edits.append(Set((*here, "dynamic"), f"{first}-{last}"))
    for machine in network.machines:
        edits.append(Set((*here, "machine", machine.name, "address"), str(_moved(machine.address, before, after))))
    if any(s in before for s in network.name_servers):
        servers = [str(_moved(s, before, after) if s in before else s) for s in network.name_servers]
        edits.append(Set((*here, "name-servers"), servers))
    return [*edits, *_guests(ws, name, before, after)]


def _guests(ws: Workspace, name: str, before: IPv4Network, after: IPv4Network) -> Iterator[Edit]:
    """The addresses of its guests, and allowed sources in it."""
    for guest in ws.lab.guests.values():
        for n, adapter in enumerate(guest.adapters):
            if adapter.network == name and adapter.address:
                moved = _moved(adapter.address, before, after)
                yield Set(("guest", guest.name, "adapter", n, "address"), str(moved))
        for door in guest.doors:
            if any(a.subnet_of(before) for a in door.allow if isinstance(a, IPv4Network)):
                allow = [_source(a, before, after) for a in door.allow]
                yield Set(("guest", guest.name, "door", door.name, "allow"), allow)


def _source(source: object, before: IPv4Network, after: IPv4Network) -> str:
    if not isinstance(source, IPv4Network) or not source.subnet_of(before):
        return str(source)
    moved = _moved(source.network_address, before, after)
    return address_fields.show_source(IPv4Network((moved, source.prefixlen)))


def _moved(address: object, before: IPv4Network, after: IPv4Network) -> IPv4Address:
    """The address at the same position in the other subnet. Raises UsageError if there is none."""
    assert isinstance(address, IPv4Address)
    place = int(address) - int(before.network_address)
    if address not in before or place >= after.num_addresses - 1:
        raise UsageError(
            f"{address} does not fit into {after}",
            remedy=f"choose a subnet as large as {before}, or change this address first",
        )
    return after.network_address + place
