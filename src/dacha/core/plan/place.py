"""Where an address lies: in which network of the lab, whose it is, and whether a guest can have it."""

from __future__ import annotations

from collections.abc import Iterable
from ipaddress import IPv4Address, IPv4Network

from dacha.core.findings import Finding
from dacha.core.lab.model import Adapter, Lab
from dacha.core.named import NamedTuple
from dacha.core.plan.plan import Plan
from dacha.core.plan.pool import AddressPool, NetworkPlan


class Place(NamedTuple):
    """The judgement of an address: the network whose subnet contains it (None if none does), the guest that has it,
    whether a guest can have it, the same in words, and what to do if it cannot."""

    network: str | None
    guest: str | None
    free: bool
    what: str
    remedy: str = ""


def judge_address(
    lab: Lab, plan: Plan, address: IPv4Address, prefix: int | None, host_subnets: Iterable[IPv4Network]
) -> Place:
    """Judge an address, with the prefix length that somebody wants to use with it (None: the network's).
    `host_subnets` are the subnets that this host uses itself."""
    home = next((n for n in plan.networks.values() if n.subnet and address in n.subnet), None)
    if home is None or home.subnet is None:
        return _foreign(plan, address, host_subnets)
    findings: list[Finding] = []
    pool = AddressPool(lab.networks[home.name], home, findings)
    owner = guest = None
    for adapter in plan.adapters.values():
        if adapter.network == home.name and adapter.address:
            pool.taken[adapter.address] = adapter.guest
            owner = f"guest {adapter.guest}" if adapter.address == address else owner
            guest = adapter.guest if adapter.address == address else guest
    for machine in lab.networks[home.name].machines:
        pool.taken[machine.address] = machine.name
        owner = f"machine {machine.name}" if machine.address == address else owner
    inside = f"in network {home.name} ({home.subnet})"
    free = pool.next_free()
    remedy = f"free there: {free}" if free else f"network {home.name} has no free address"
    if owner:
        return Place(home.name, guest, False, f"{inside}, used by {owner}", remedy)
    pool.judge(None, (), Adapter(home.name, address, prefix=prefix))
    if findings:
        return Place(home.name, None, False, f"{inside}; {findings[0].what}", findings[0].remedy or remedy)
    return Place(home.name, None, True, f"{inside}, free")


def _foreign(plan: Plan, address: IPv4Address, host_subnets: Iterable[IPv4Network]) -> Place:
    """An address outside the lab's networks."""
    listed = ", ".join(_shown(n) for n in plan.networks.values() if n.subnet)
    remedy = f"choose an address of one of these networks: {listed}" if listed else "add a network: dacha network add"
    for subnet in host_subnets:
        if address in subnet:
            what = f"not in a network of this lab, but in {subnet}, which this host uses"
            return Place(None, None, False, what, remedy)
    return Place(None, None, False, "not in a network of this lab", remedy)


def _shown(network: NetworkPlan) -> str:
    return f"{network.name} ({network.subnet})"
