"""What the rules of other programs on this host do with a connection that enters a door."""

from __future__ import annotations

from typing import Any

from dacha.core.lab.names import link_name
from dacha.core.network.firewall import Packet, dropped_by, led_by
from dacha.core.plan.doors import DoorPlan
from dacha.host.network import addresses, nft

# How the names of Dacha's own tables begin, and the priority of their NAT: what is before it has a connection first.
OWN, OURS = "dacha_", -100


def listing() -> dict[str, Any] | None:
    """The rules of every other program; None where they may not be read."""
    return nft.listing(OWN)


def dropped(
    lab: str, door: DoorPlan, listing: dict[str, Any] | None, *, from_lan: bool, asker: str | None, lan: str | None
) -> tuple[str, str] | None:
    """What else on this host drops a connection from where the door is entered."""
    if listing is None or door.adapter is None or door.port is None:
        return None
    kernel = door.backend == "kernel"
    if kernel and door.adapter.address is None:
        return None
    if kernel:
        bridge = link_name(lab, "network", door.adapter.network)
        hook, out = ("forward", bridge) if from_lan else ("output", bridge)
        to, port = str(door.adapter.address), door.door.to.first
    else:
        hook, out, to, port = "input", None, lan or "", door.port.first
    arrives = addresses.lan_interface() if from_lan else "lo"
    packet = Packet(4, arrives, out, asker, to, door.door.protocol, port, kernel)
    found = dropped_by(listing, hook, packet, OWN)
    return (str(found), found.shown_by()) if found else None


def taken(
    door: DoorPlan, listing: dict[str, Any] | None, *, from_lan: bool, asker: str | None, at: str
) -> tuple[str, str] | None:
    """Which rule of another program leads a connection elsewhere before the door has it; `at` is the address at which
    the door is entered."""
    if listing is None or door.port is None or not at[:1].isdigit():
        return None
    hook, arrives, leaves = ("prerouting", addresses.lan_interface(), None) if from_lan else ("output", None, "lo")
    packet = Packet(4, arrives, leaves, asker, at, door.door.protocol, door.port.first)
    found = led_by(listing, hook, packet, OWN, OURS)
    return (str(found), found.shown_by()) if found else None
