"""What `check` says about a lab that could be read: the plan's errors, and the lab against this host."""

from __future__ import annotations

from collections.abc import Mapping
from typing import NamedTuple

from dacha.core.findings import ERROR, NOTE, WARNING, Finding, Path
from dacha.core.lab import Lab
from dacha.core.plan import Plan
from dacha.core.units import GIB, show_size


class HostFacts(NamedTuple):
    """What this host has: logical CPUs, bytes of memory, and bytes free on each store (by folder)."""

    cpus: int
    memory: int
    memory_free: int
    disk_free: Mapping[str, int]


# What a host wants to keep for itself; promised beyond it, guests and host push each other out.
HOST_MEMORY = 1 * GIB


def promised(lab: Lab) -> tuple[int, int, int]:
    """What the lab promises to all its guests together: CPUs, bytes of memory, bytes of disk."""
    guests = lab.guests.values()
    return (
        sum(g.cpus for g in guests),
        sum(g.memory for g in guests),
        sum(d.size or 0 for g in guests for d in g.disks),
    )


def check_lab(lab: Lab, plan: Plan) -> list[Finding]:
    """Everything that can be said from the file alone."""
    findings = list(plan.findings)
    seen_exposed: set[str] = set()
    for guest in lab.guests.values():
        here: Path = ("guest", guest.name)
        for n, adapter in enumerate(guest.adapters):
            net = lab.networks.get(adapter.network)
            if net is None:
                continue
            if net.kind == "bridge" or net.carrier == "kernel":
                findings.append(
                    Finding(
                        ERROR,
                        "carrier",
                        f"guest {guest.name}",
                        f"network {net.name} is {net.kind}, carried by the kernel: "
                        "this version carries only user-mode networks",
                        'use kind = "nat" or "host-only"',
                        (*here, "adapter", n),
                        "host",
                    )
                )
            elif net.kind == "nat" and not net.isolated and net.name not in seen_exposed:
                seen_exposed.add(net.name)
                gateway = plan.networks[net.name].gateway
                findings.append(
                    Finding(
                        NOTE,
                        "host-loopback",
                        f"network {net.name}",
                        f"guests here reach services on this host's own loopback through {gateway}",
                        "isolated = true shuts this, together with the way out",
                        ("network", net.name),
                        "host",
                    )
                )
        if guest.login and not guest.login.keys:
            findings.append(
                Finding(
                    WARNING,
                    "login-keys",
                    f"guest {guest.name}",
                    f"nobody can log in: {guest.login.user} has no key",
                    'add: keys = ["~/.ssh/id_ed25519.pub"]',
                    (*here, "login"),
                )
            )
        if any(d.service == "ssh" for d in guest.doors) and guest.first_boot and guest.login is None:
            findings.append(
                Finding(
                    WARNING,
                    "login-missing",
                    f"guest {guest.name}",
                    "an ssh door, but nobody is named who may log in",
                    f"dacha guest edit {guest.name} --user ops --key ~/.ssh/id_ed25519.pub",
                    here,
                )
            )
        if not guest.disks and guest.boot is None:
            findings.append(
                Finding(
                    WARNING,
                    "nothing-to-boot",
                    f"guest {guest.name}",
                    "no disk and no kernel: it has nothing to boot",
                    'add: disk = [{ from = "IMAGE" }]',
                    here,
                )
            )
    return findings


def check_host(lab: Lab, facts: HostFacts, store: str, existing: int = 0) -> list[Finding]:
    """The lab's promises against what this host has; `existing` bytes of its disks are already written."""
    findings = []
    cpus, memory, disk = promised(lab)
    if memory > facts.memory - HOST_MEMORY:
        findings.append(
            Finding(
                WARNING,
                "memory-promised",
                "lab",
                f"guests may use {show_size(memory)} of memory together; this host has {show_size(facts.memory)}",
                f"give them {show_size(max(0, facts.memory - HOST_MEMORY))} at most, or do not run all at once",
                (),
                "host",
            )
        )
    most = max((g.cpus for g in lab.guests.values()), default=0)
    if cpus > facts.cpus * 4:
        findings.append(
            Finding(
                WARNING,
                "cpus-promised",
                "lab",
                f"guests have {cpus} CPUs together; this host has {facts.cpus}",
                "more than four guest CPUs for one of the host's makes all of them slow",
                (),
                "host",
            )
        )
    if most > facts.cpus:
        name = next(g.name for g in lab.guests.values() if g.cpus == most)
        findings.append(
            Finding(
                WARNING,
                "cpus-many",
                f"guest {name}",
                f"{most} CPUs, but this host has {facts.cpus}",
                f"cpus = {facts.cpus} at most",
                ("guest", name, "cpus"),
                "host",
            )
        )
    free = facts.disk_free.get(store, 0)
    if disk - existing > free:
        findings.append(
            Finding(
                WARNING,
                "disk-promised",
                "lab",
                f"disks may grow by {show_size(disk - existing)}; {show_size(free)} is free on {store}",
                "make them smaller, or free some space",
                (),
                "host",
            )
        )
    return findings
