"""The plan in force: a running guest keeps the adapters that it was started with until its next start, whatever the lab
file says by now. Doors, rules, names and leases follow the plan in force."""

from __future__ import annotations

from collections.abc import Mapping
from ipaddress import IPv4Address, IPv6Address

from dacha.core.apply.machine import Machine, MachineAdapter
from dacha.core.lab.model import Lab
from dacha.core.plan.addresses import AdapterPlan
from dacha.core.plan.doors import DoorPlan
from dacha.core.plan.plan import Plan


def in_force(lab: Lab, plan: Plan, machines: Mapping[str, Machine]) -> Plan:
    """The plan with the adapters of running guests as they were started; `machines` are the machines they were started
    with. A door that needs something of the next start (another adapter, another backend) has the means "none"."""
    given: dict[tuple[str, int], AdapterPlan | None] = {}
    for guest, machine in machines.items():
        for adapter in plan.adapters_of(guest):
            had = _started_with(lab, adapter, machine["adapters"])
            if had != adapter:
                given[guest, adapter.number] = had
    if not given:
        return plan
    adapters = {key: given.get(key) or adapter for key, adapter in plan.adapters.items()}
    doors = {key: _door(lab, door, given) for key, door in plan.doors.items()}
    return plan._replace(adapters=adapters, doors=doors)


def _started_with(lab: Lab, adapter: AdapterPlan, had: list[MachineAdapter]) -> AdapterPlan | None:
    """The adapter as in the running guest; None if it has none there, or one on another network."""
    if adapter.number >= len(had):
        return None
    was = had[adapter.number]
    network = lab.networks.get(was["network"])
    if network is None or (was["tap"] is None) != (not network.by_kernel):
        return None
    address, address6 = was["address"], was["address6"]
    return adapter._replace(
        network=was["network"],
        hardware_address=was["hardware_address"],
        model=was["model"],
        address=IPv4Address(address) if address else None,
        address6=IPv6Address(address6) if address6 else None,
    )


def _door(lab: Lab, door: DoorPlan, given: Mapping[tuple[str, int], AdapterPlan | None]) -> DoorPlan:
    if door.adapter is None:
        return door
    key = (door.adapter.guest, door.adapter.number)
    if key not in given:
        return door
    had = given[key]
    if had is None or door.means == "none":
        return door._replace(means="none")
    before, after = lab.networks[had.network], lab.networks[door.adapter.network]
    if before.by_kernel != after.by_kernel or (before.kind == "bridge") != (after.kind == "bridge"):
        return door._replace(means="none")
    return door._replace(adapter=had)
