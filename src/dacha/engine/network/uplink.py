"""Whether this host is connected to the LAN that a door is entered from."""

from __future__ import annotations

from dacha.core.lab.model import Lab
from dacha.core.lab.names import link_name
from dacha.core.network.links import lan_link
from dacha.core.network.uplink import Cut
from dacha.core.plan.doors import DoorPlan
from dacha.host.network.addresses import lan_interface
from dacha.host.network.link.uplink import disconnected


def cut_off(lab: Lab, door: DoorPlan) -> Cut | None:
    """What disconnects this host, or the guest, from that LAN; None if nothing is known to."""
    adapter = door.adapter
    if adapter is None or door.means != "own":
        link = lan_interface()
        return disconnected(link) if link else None
    link = lan_link(lab, lab.networks[adapter.network])
    tap = link_name(lab.name, "guest", adapter.guest, str(adapter.number))
    return disconnected(link, tap) if link else None
