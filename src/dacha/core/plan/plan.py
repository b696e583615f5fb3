"""The whole plan of a lab: addresses and doors, and the values chosen for missing keys."""

from __future__ import annotations

from collections.abc import Iterable
from ipaddress import IPv4Network

from dacha.core.findings import Finding, Path
from dacha.core.lab.model import Lab
from dacha.core.named import NamedTuple
from dacha.core.plan.addresses import AdapterPlan, plan_addresses
from dacha.core.plan.doors import DoorPlan, Forward, plan_doors
from dacha.core.plan.pool import NetworkPlan


class Plan(NamedTuple):
    """Everything that follows from the lab. `chosen` maps a key path of the file to the text to write there."""

    networks: dict[str, NetworkPlan]
    adapters: dict[tuple[str, int], AdapterPlan]
    doors: dict[tuple[str, str], DoorPlan]
    chosen: dict[Path, str]
    findings: list[Finding]

    def adapters_of(self, guest: str) -> list[AdapterPlan]:
        """The guest's adapters in order."""
        found: list[AdapterPlan] = []
        while (adapter := self.adapters.get((guest, len(found)))) is not None:
            found.append(adapter)
        return found

    def forwards_of(self, guest: str, doors: Iterable[str]) -> dict[Forward, str]:
        """The forwards that the guest's QEMU must hold open, each with its door: those of user mode."""
        found = {name: self.doors[guest, name] for name in doors}
        return {f: name for name, door in found.items() if door.backend == "user" for f in door.forwards()}


def make_plan(lab: Lab, host_subnets: Iterable[IPv4Network] = (), held_ports: Iterable[tuple[str, int]] = ()) -> Plan:
    """Plan the lab. The same arguments always give the same plan."""
    addresses = plan_addresses(lab, host_subnets)
    doors, ports, findings = plan_doors(lab, addresses, held_ports)
    return Plan(
        addresses.networks, addresses.adapters, doors, {**addresses.chosen, **ports}, [*addresses.findings, *findings]
    )
