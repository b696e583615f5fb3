"""The effect of other programs' rules on a connection through a door."""

from __future__ import annotations

from typing import Any

from dacha.core.lab.names import link_name
from dacha.core.network.firewall.walk import Packet, dropped_by, led_by
from dacha.core.plan.doors import DoorPlan
from dacha.host.network import addresses, nft

# The prefix of Dacha's own tables, and the priority of their NAT: chains before it see a connection first.
OWN, OURS = "dacha_", -100


def listing() -> dict[str, Any] | None:
    """The rules of every other program; None if they are not readable."""
    return nft.listing(OWN)


def dropped(
    lab: str, door: DoorPlan, listing: dict[str, Any] | None, *, from_lan: bool, asker: str | None, lan: str | None
) -> tuple[str, str] | None:
    """What else on this host drops a connection from the door's origin."""
    if listing is None or door.adapter is None or door.port is None:
        return None
    kernel, version = door.backend == "kernel", door.listen.version
    inside = door.adapter.address6 if version == 6 else door.adapter.address
    if kernel and inside is None:
        return None
    if kernel:
        bridge = link_name(lab, "network", door.adapter.network)
        hook, out = ("forward", bridge) if from_lan else ("output", bridge)
        to, port = str(inside), door.door.to.first
    else:
        hook, out, to, port = "input", None, str(door.listen) if version == 6 else lan or "", door.port.first
    arrives = addresses.lan_interface() if from_lan else "lo"
    packet = Packet(version, arrives, out, asker, to, door.door.protocol, port, kernel)
    found = dropped_by(listing, hook, packet, OWN)
    return (str(found), found.shown_by()) if found else None


def taken(
    door: DoorPlan, listing: dict[str, Any] | None, *, from_lan: bool, asker: str | None, at: str
) -> tuple[str, str] | None:
    """Which rule of another program redirects a connection before the door's rule; `at` is the door's address."""
    at = at.strip("[]")
    if listing is None or door.port is None or not at[:1].isalnum():
        return None
    hook, arrives, leaves = ("prerouting", addresses.lan_interface(), None) if from_lan else ("output", None, "lo")
    packet = Packet(6 if ":" in at else 4, arrives, leaves, asker, at, door.door.protocol, door.port.first)
    found = led_by(listing, hook, packet, OWN, OURS)
    return (str(found), found.shown_by()) if found else None
