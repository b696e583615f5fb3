"""The guests' addresses that the caretaker observed, in a file that every command reads."""

from __future__ import annotations

from collections.abc import Mapping
from ipaddress import IPv4Address
from pathlib import Path

from dacha.core.apply.in_force import in_force
from dacha.core.findings import WARNING, Finding
from dacha.core.plan.learned import Key, Sighting, followed, learned
from dacha.core.plan.plan import Plan
from dacha.engine.home import Home
from dacha.engine.workspace import Workspace
from dacha.host.records import DAMAGED, read_record, write_record

VERSION = 1


def write(file: Path, seen: Mapping[Key, Sighting]) -> None:
    rows = [[*key, str(x.address) if x.address else None, x.at, x.since, x.by, x.others] for key, x in seen.items()]
    write_record(file, VERSION, {"seen": rows})


def read(home: Home) -> dict[Key, Sighting]:
    """The latest observations, by guest and adapter; empty if no caretaker has run."""
    try:
        rows = read_record(home.sightings, VERSION, "seen")["seen"]
        return {
            (str(guest), int(number)): Sighting(
                IPv4Address(address) if address else None, float(at), float(since), str(by), tuple(map(str, others))
            )
            for guest, number, address, at, since, by, others in rows
        }
    except DAMAGED:
        return {}


def started(ws: Workspace, plan: Plan) -> Plan:
    """The plan with the adapters of running and saved guests as they were started: in force until the next start."""
    machines = {}
    for name in ws.home.guests():
        if name not in ws.lab.guests or not (ws.home.is_running(name) or ws.home.saved_note(name).exists()):
            continue
        if machine := ws.home.read(name).machine:
            machines[name] = machine
    return in_force(ws.lab, plan, machines) if machines else plan


def now(ws: Workspace, plan: Plan) -> Plan:
    """The plan in force: with the adapters of running guests as started, and learned addresses of those without a
    planned one."""
    plan = started(ws, plan)
    if all(a.address for a in plan.adapters.values()):
        return plan
    return followed(plan, learned(plan, read(ws.home)))


def conflicts(plan: Plan, seen: Mapping[Key, Sighting]) -> list[Finding]:
    """Guests that use another address than the planned one."""
    found = []
    for key, sighting in seen.items():
        adapter = plan.adapters.get(key)
        if adapter is None or adapter.address is None or sighting.address in (None, adapter.address):
            continue
        what = f"it uses {sighting.address} on {adapter.network}, but {adapter.address} is planned"
        remedy = (
            f"set {adapter.address} in the guest, or let it use DHCP; until then its traffic is blocked\n"
            f"or plan the other: dacha guest edit {adapter.guest} --address {adapter.network}={sighting.address}"
        )
        path = ("guest", adapter.guest, "adapter", adapter.number)
        found.append(Finding(WARNING, "other-address", f"guest {adapter.guest}", what, remedy, path, "host"))
    return found


def live_plan(ws: Workspace) -> Plan:
    """The plan in force, without examining the host if the file leaves nothing to choose."""
    return now(ws, ws.plan_without_host)


def networks_apart(ws: Workspace) -> set[str]:
    """Networks whose guests this host itself cannot reach: those directly on one of its adapters."""
    bridged = {n.name: n.interface for n in ws.lab.networks.values() if n.kind == "bridge"}
    if not bridged:
        return set()
    from dacha.host.network import iproute

    links = iproute.links()
    on_vlan = {n.name for n in ws.lab.networks.values() if n.vlan is not None}
    return on_vlan | {name for name, i in bridged.items() if i in links and links[i].kind != "bridge"}
