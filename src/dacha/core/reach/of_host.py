"""Services of this host that guests may use."""

from __future__ import annotations

from dacha.core.lab.model import Lab
from dacha.core.plan.plan import Plan
from dacha.core.plan.smb import smb_places


def to_host(lab: Lab, plan: Plan, *, gate: bool = True) -> dict[str, tuple[str, ...]]:
    """Services of this host that guests of each network may use, in words, by network; without a `gate`, those in user
    mode can reach its loopback."""
    found: dict[str, tuple[str, ...]] = {}
    shared = list(smb_places(lab, plan))
    for net in lab.networks.values():
        if net.kind == "bridge":
            continue
        if net.managed:
            boot = ("boot files",) if net.boot else ()
            who = [guest.name for guest, place in shared if place.network == net.name]
            shares = (f"shared folders by SMB ({', '.join(who)} only)",) if who else ()
            found[net.name] = ("DHCP", "DNS", "ping", *boot, *shares, *(str(allowed) for allowed in net.to_host))
        elif net.isolated or net.kind == "host-only":
            found[net.name] = ("DHCP", "DNS")
        else:
            opened = tuple(str(allowed) for allowed in net.to_host)
            found[net.name] = ("DHCP", "DNS", *(opened if gate else ("all services on its loopback",)))
    return found
