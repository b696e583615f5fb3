"""Restrictions of doors: listen address, allowed sources, kind of network."""

from __future__ import annotations

from dacha.core.findings import ERROR, Finding, Path
from dacha.core.lab.kinds import ORIGIN_WORDS
from dacha.core.lab.model import Door, Lab
from dacha.core.lab.network import Network
from dacha.core.plan.addresses import AdapterPlan


def isolation(door: Door, lab: Lab, path: Path) -> Finding:
    inside = next((n.name for n in lab.networks.values() if n.kind == "nat"), "NETWORK")
    return Finding(
        ERROR,
        "door-isolation",
        f"door {door.guest} {door.name}",
        f"{door.guest} is on a host-only network: a door from {ORIGIN_WORDS[door.origin]} would end its isolation",
        f"to allow it, add an adapter on a NAT network: dacha guest edit {door.guest} --adapter {inside}\n"
        'to enter from this host only: from = "host"',
        (*path, "from"),
    )


def check_listen(door: Door, network: Network | None, path: Path, findings: list[Finding], *, simulated: bool) -> None:
    subject = f"door {door.guest} {door.name}"
    if door.listen and door.origin == "host" and not door.listen.is_loopback:
        findings.append(
            Finding(
                ERROR,
                "listen-open",
                subject,
                f"listen: {door.listen} is reachable from other machines",
                'a door from the host listens on loopback; to expose it to the LAN, set from = "lan"',
                (*path, "listen"),
            )
        )
    if door.listen and door.from_lan and door.listen.is_loopback and not (door.origin == "outside" and simulated):
        findings.append(
            Finding(
                ERROR,
                "listen-closed",
                subject,
                f"listen: the LAN cannot reach {door.listen}",
                "remove listen, or set it to this host's address on the LAN",
                (*path, "listen"),
            )
        )
    if door.allow and network and not network.by_kernel:
        findings.append(
            Finding(
                ERROR,
                "allow-user-mode",
                subject,
                "allow: on a user-mode network, Dacha cannot see the client's address",
                "remove allow, and limit access by listen or by the host's firewall",
                (*path, "allow"),
            )
        )


def check_own(door: Door, path: Path, findings: list[Finding]) -> None:
    """A door of a guest on a bridge is at the guest's own address: this host neither forwards nor filters it, so keys
    for that are refused."""
    at = f"{door.guest} is on a bridge: clients connect to its own address"
    given = {
        "allow": (bool(door.allow), "this host cannot limit who connects", "use the guest's own firewall"),
        "listen": (door.listen is not None, "this host does not listen on its behalf", ""),
        "port": (
            bool(door.port and door.port != door.to),
            f"at port {door.to}",
            "if its service uses another port, set `to`",
        ),
    }
    for key, (there, why, remedy) in given.items():
        if there:
            remedy = f"remove {key}" + (f", and {remedy}" if remedy else "")
            subject = f"door {door.guest} {door.name}"
            findings.append(Finding(ERROR, "door-own", subject, f"{key}: {at}, {why}", remedy, (*path, key)))


def check_listen6(
    door: Door, network: Network | None, adapter: AdapterPlan | None, path: Path, findings: list[Finding]
) -> None:
    """A door that listens on an IPv6 address of this host: only kernel networks support it, for a guest with an IPv6
    address."""
    what = remedy = ""
    if network and not network.by_kernel:
        what, remedy = "a user-mode network has doors for IPv4 only", 'write an IPv4 address, or backend = "kernel"'
    elif door.origin == "outside":
        what, remedy = (
            "doors from outside support IPv4 only",
            "set listen to an IPv4 address of this host, or remove it",
        )
    elif door.listen and door.listen.is_loopback:
        what, remedy = "the kernel does not forward from ::1", "remove listen: 127.0.0.1 is forwarded"
    elif adapter and adapter.address6 is None:
        what, remedy = f"{door.guest} has no IPv6 address there", "add an address: address6"
    if what:
        subject = f"door {door.guest} {door.name}"
        findings.append(Finding(ERROR, "listen6", subject, f"listen: {what}", remedy, (*path, "listen")))
