"""The names that a lab announces on the LAN: guests with a door that is open to it, and their services."""

from __future__ import annotations

from collections.abc import Iterable
from ipaddress import IPv4Address

from dacha.core.lab.model import Lab
from dacha.core.named import NamedTuple
from dacha.core.plan.doors import lan_place
from dacha.core.plan.plan import Plan

# Services by their registered names (RFC 6763 section 7; the IANA registry of service names).
SERVICES = {"ssh": "_ssh._tcp", "rdp": "_rdp._tcp", "vnc": "_rfb._tcp", "http": "_http._tcp", "https": "_https._tcp"}


class LanService(NamedTuple):
    """A service of a guest: its registered name, its own name (that of the guest, with the door's if that is another
    one), and its port for clients on the LAN."""

    kind: str
    name: str
    port: int


class LanName(NamedTuple):
    """A guest's name on the LAN, where it leads to, and what is served there."""

    name: str
    address: IPv4Address
    services: tuple[LanService, ...]


def lan_names(lab: Lab, plan: Plan, host: IPv4Address) -> tuple[LanName, ...]:
    """Each guest with a door from the LAN; `host` is this host's address there. A guest whose doors are at several
    addresses has its name at that of the first."""
    found = (_lan_name(plan, name, [d.name for d in guest.doors if d.from_lan], host)
             for name, guest in lab.guests.items())  # fmt: skip
    return tuple(name for name in found if name)


def _lan_name(plan: Plan, guest: str, doors: Iterable[str], host: IPv4Address) -> LanName | None:
    address, services = None, []
    for name in doors:
        door = plan.doors[guest, name]
        place = lan_place(door, host)
        if place is None or not isinstance(place[0], IPv4Address) or (address and place[0] != address):
            continue
        address = place[0]
        kind = SERVICES.get(door.door.service or "")
        if kind:
            services.append(LanService(kind, guest if name == door.door.service else f"{guest} {name}", place[1]))
    return LanName(guest, address, tuple(services)) if address else None
