"""Whether this host is connected to the LAN that a door is entered from."""

from __future__ import annotations

from dacha.core.lab.model import Lab
from dacha.core.network.links import lan_link
from dacha.core.plan.doors import DoorPlan
from dacha.host.network.addresses import lan_interface
from dacha.host.network.link.uplink import disconnected


def cut_off(lab: Lab, door: DoorPlan) -> str:
    """What disconnects this host from that LAN, in words; "" if nothing is known to."""
    network = lab.networks[door.adapter.network] if door.adapter else None
    link = lan_link(lab, network) if network and door.means == "own" else lan_interface()
    return disconnected(link) if link else ""
