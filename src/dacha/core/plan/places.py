"""Places: where this host is, by the router that it finds there, and which doors from the LAN are open there."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from ipaddress import IPv4Address, IPv4Network
from typing import TYPE_CHECKING

from dacha.core.findings import ERROR, WARNING, Finding, Path
from dacha.core.named import NamedTuple
from dacha.core.spelling import did_you_mean

if TYPE_CHECKING:
    from dacha.core.lab.model import Door, Lab
    from dacha.core.lab.network import Place


class Here(NamedTuple):
    """What this host sees of the network that it is on: the interface of its default route, the router there, its
    hardware address (None while it is unknown), and the subnet."""

    interface: str
    router: IPv4Address
    hardware_address: str | None
    subnet: IPv4Network | None

    def __str__(self) -> str:
        known = f", {self.hardware_address}" if self.hardware_address else ", which does not answer ARP requests"
        return f"router {self.router}{known}"


def place_of(places: Mapping[str, Place], here: Here | None) -> str | None:
    """The name of the place, None for an unknown one: a host without a default route, a router that does not answer, a
    router that the lab file does not name."""
    if here is None or here.hardware_address is None:
        return None
    for place in places.values():
        if place.router == here.hardware_address and (place.subnet is None or place.subnet == here.subnet):
            return place.name
    return None


def lab_at(lab: Lab, place: str | None) -> Lab:
    """The lab at a place: doors that are closed to the LAN there are open to this host only, and `away`."""
    guests = {}
    for name, guest in lab.guests.items():
        doors = tuple(_closed(d) if not _open_at(lab, d, place) else d for d in guest.doors)
        guests[name] = guest._replace(doors=doors) if doors != guest.doors else guest
    return lab._replace(guests=guests)


def _open_at(lab: Lab, door: Door, place: str | None) -> bool:
    if not door.from_lan or _on_bridge(lab, door):
        return True
    return place is not None and (not door.places or place in door.places)


def _closed(door: Door) -> Door:
    return door._replace(origin="host", listen=None, outside_port=None, allow=(), away=True)


def _on_bridge(lab: Lab, door: Door) -> bool:
    """True for a door to a guest's own address on a LAN: this host does not carry its traffic."""
    adapters = [a.network for a in lab.guests[door.guest].adapters]
    known = [lab.networks[n] for n in ([door.network] if door.network else adapters) if n in lab.networks]
    return next((network.kind == "bridge" for network in known if network.kind != "host-only"), False)


# What opens a door at a place where it is closed.
NAME_IT = "name this place in the lab file: [place.NAME], with the router that dacha host shows"


def closed_doors(lab: Lab) -> list[Door]:
    """The doors of a lab at a place that are closed to the LAN there."""
    return [door for door in lab.doors() if door.away]


def place_findings(lab: Lab) -> Iterator[Finding]:
    """Errors about places, of the lab as it is written."""
    for door in lab.doors():
        about, path = f"door {door.guest} {door.name}", ("guest", door.guest, "door", door.name)
        for n, name in enumerate(door.places):
            if name not in lab.places:
                remedy = did_you_mean(name, lab.places, f"add [place.{name}]")
                where: Path = (*path, "places", n)
                yield Finding(ERROR, "unknown-place", about, f"places: no table [place.{name}] exists", remedy, where)
        if door.places and not door.from_lan:
            what = "places: a door from this host only is the same at every place"
            yield Finding(ERROR, "place-host", about, what, "remove the key places", (*path, "places"))
        if lab.places and door.from_lan and _on_bridge(lab, door):
            what = "it stays open at every place: it is the guest's own address on a bridged network"
            remedy = "to close it elsewhere, use a NAT network"
            yield Finding(WARNING, "place-bridge", about, what, remedy, path)
