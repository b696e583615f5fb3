"""What a guest on a user-mode network may connect to on this host, as the lines that `hypervisor/gate.py` reads."""

from __future__ import annotations

from ipaddress import IPv4Network

from dacha.core.apply.machine import Machine, MachineAdapter
from dacha.core.lab.model import Lab
from dacha.core.plan.plan import Plan


def asks(machine: Machine) -> bool:
    """True if QEMU opens connections of the guest in this host's name."""
    return bool(_adapters(machine))


def lines(lab: Lab, plan: Plan, machine: Machine) -> list[str]:
    """The rules of one guest: services of this host that its networks allow (`to-host`), its way out, doors that it may
    enter, and the lab's kernel networks, which it may reach only through doors. A process has one set of rules: with
    several such adapters, a connection passes if one of their networks allows it."""
    adapters = _adapters(machine)
    found: dict[str, None] = {}
    for opened in (word for a in adapters for word in a.get("to_host", ())):
        protocol, _, ports = opened.partition(" ")
        found["host all" if opened == "everything" else f"host {protocol} {_span(ports)}"] = None
    if adapters and all(a.get("way_out") == "internet" for a in adapters):
        found["internet"] = None
    for door in plan.doors.values():
        there = {a.network for a in plan.adapters_of(door.door.guest)}
        enters = (door.open_to_user_mode(_subnet(a), mine=a["network"] in there) for a in adapters)
        if door.port and any(enters):
            found[f"host {door.door.protocol} {_span(str(door.port))}"] = None
    for name, net in plan.networks.items():
        if lab.networks[name].managed:
            found |= dict.fromkeys(f"shut {subnet}" for subnet in (net.subnet, net.subnet6) if subnet)
    return list(found)


def _adapters(machine: Machine) -> list[MachineAdapter]:
    return [a for a in machine["adapters"] if a["tap"] is None and not a["isolated"]]


def _subnet(adapter: MachineAdapter) -> IPv4Network | None:
    return IPv4Network(adapter["subnet"]) if adapter["subnet"] else None


def _span(ports: str) -> str:
    first, _, last = ports.partition("-")
    return f"{first}-{last or first}"
