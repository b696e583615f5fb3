"""The kernel's part of a lab: links, rules and forwarding, changed from any state to the desired one."""

from __future__ import annotations

import contextlib
from collections.abc import Collection
from pathlib import Path

from dacha.core.apply.changes import (
    Change,
    ChangeMachine,
    Forwarding,
    LoadRules,
    MakeLink,
    ReattachTap,
    RemoveLink,
    RemoveRules,
)
from dacha.core.errors import HostError
from dacha.core.named import NamedTuple
from dacha.core.network.links import (
    GROUP,
    BridgeLink,
    DirectLink,
    HostBridge,
    TapLink,
    VlanLink,
    alias_prefix,
    tap_group,
)
from dacha.core.network.marks import drop_filter
from dacha.core.network.rules import TABLE_FAMILIES, table_name
from dacha.core.plan.plan import Plan
from dacha.engine.network import live, rules
from dacha.engine.network.links import wanted_links
from dacha.engine.workspace import Workspace
from dacha.host.network import iproute, nft, sysctls, traffic_control, transit
from dacha.host.network.iproute import SeenLink
from dacha.host.network.link.commands import commands
from dacha.host.network.tap import attach_again
from dacha.host.processes import alive


class Seen(NamedTuple):
    """The observed state: the lab's own links by name, other programs' links, the rules' digest, forwarding."""

    own: dict[str, SeenLink]
    foreign: dict[str, SeenLink]
    rules: str | None
    rules_there: bool
    forwarding: bool


def uses_kernel(ws: Workspace) -> bool:
    """True if the lab has a kernel network, or had one at its last apply."""
    return any(n.by_kernel for n in ws.lab.networks.values()) or ws.home.kernel_note.exists()


def observe(ws: Workspace) -> Seen:
    """Read the kernel's state as far as it concerns the lab. Raises HostError."""
    everything = iproute.links()
    own = {n: link for n, link in everything.items() if link.alias.startswith(alias_prefix(ws.lab.name))}
    name = table_name(ws.lab.name)
    return Seen(
        own=own,
        foreign={n: link for n, link in everything.items() if n not in own},
        rules=nft.digest(name, TABLE_FAMILIES),
        rules_there=any(table == name for _, table in nft.tables()),
        forwarding=all(sysctls.read(s) in (None, "1") for s in sysctls.FORWARDING.values())
        and transit.closed(sysctls.not_forwarded_before()),
    )


def differs(link: BridgeLink | VlanLink | TapLink | DirectLink, seen: SeenLink) -> bool:
    """True if a link differs from the desired one."""
    if isinstance(link, VlanLink):
        return not seen.up or (seen.parent, seen.vlan) != (link.parent, link.number)
    if not seen.up or seen.hardware_address != link.hardware_address:
        return True
    if isinstance(link, BridgeLink):
        return set(seen.addresses) != set(link.addresses) or _localnet(link) != "1" or seen.group != str(GROUP)
    if isinstance(link, DirectLink):
        return seen.parent != link.parent
    return seen.master != link.bridge or seen.group != str(tap_group(link.alias.split(":")[1]))


def _lost(link: TapLink | DirectLink, seen: SeenLink | None) -> bool:
    """True if no process has the link open: a tap has a carrier exactly while one has."""
    return seen is None or (isinstance(link, TapLink) and seen.up and not seen.carrier)


def _localnet(link: BridgeLink) -> str | None:
    return sysctls.read(f"net/ipv4/conf/{link.name}/route_localnet")


def difference(ws: Workspace, plan: Plan, held: Collection[str] = ()) -> list[Change]:
    """The changes from the kernel's state to the lab; `held` are the links that running guests were started with.
    Raises HostError if a name is in use by another program."""
    if not uses_kernel(ws):
        return []
    plan = live.started(ws, plan)
    target, seen = wanted_links(ws, plan), observe(ws)
    changes: list[Change] = []
    lost: list[Change] = []
    clash = seen.foreign.keys() & set(target.links)
    if clash:
        raise HostError(
            f"this host already has a link {min(clash)}, which is not Dacha's",
            why="Dacha touches only links that carry its own alias",
            remedy=f"rename it: ip link set {min(clash)} down; ip link set {min(clash)} name OTHER",
        )
    for name, link in target.links.items():
        if name not in seen.own:
            changes.append(MakeLink(link, False))
        elif isinstance(link, HostBridge):
            port = seen.foreign.get(link.adapter)
            if not seen.own[name].up or (port and port.master != name):
                changes.append(MakeLink(link, True))
        elif differs(link, seen.own[name]):
            changes.append(MakeLink(link, True))
        if isinstance(link, TapLink | DirectLink) and name in held and _lost(link, seen.own.get(name)):
            # A link that is created again is another one; QEMU keeps the deleted one open. A tap can be attached again;
            # an adapter's own (macvtap) is lost with its link.
            if isinstance(link, TapLink):
                lost.append(ReattachTap(link.guest, link.adapter, name))
            else:
                what = f"adapter {link.adapter} again: the link under it was removed"
                changes.append(ChangeMachine(link.guest, what, "link"))
    lacking = rules.unfiltered(target, seen.own)
    if target.bridges() and (lacking or not rules.current(ws, rules.text_of(ws, plan, target), seen.rules)):
        doors = sum(d.backend == "kernel" for d in plan.doors.values())
        changes.append(LoadRules(doors, seen.rules_there, *rules.moved(ws, plan), unfiltered=tuple(lacking)))
    # After the rules, so that nothing is sent that they would block.
    changes += lost
    if target.bridges() and not seen.forwarding:
        # After the rules: they separate this host's other networks.
        changes.append(Forwarding(True))
    # Ports are removed before their bridges.
    gone = [link for name, link in seen.own.items() if name not in target.links]
    changes += [RemoveLink(g.name, g.alias) for g in sorted(gone, key=lambda g: (g.kind == "bridge", g.name))]
    if not target.bridges():
        if seen.rules_there:
            changes.append(RemoveRules())
        if sysctls.remembered() and not _others(ws):
            changes.append(Forwarding(False))
    return changes


def _others(ws: Workspace) -> bool:
    """True while another lab has links here, so that forwarding must stay enabled."""
    return any(
        link.alias.startswith("dacha:") and not link.alias.startswith(alias_prefix(ws.lab.name))
        for link in iproute.links().values()
    )


def forget(ws: Workspace) -> None:
    """Delete the lab's record when nothing of it is left in the kernel."""
    if not any(n.by_kernel for n in ws.lab.networks.values()) and not observe(ws).own:
        ws.home.kernel_note.unlink(missing_ok=True)


def carry_out(ws: Workspace, plan: Plan, change: Change) -> rules.Ended:
    """Carry out one step; returns the connections that ended with it. Raises HostError."""
    match change:
        case Forwarding(on=True):
            _keep_router_advertisements()
            # Before this host forwards: networks that were separate stay so.
            transit.close(sysctls.not_forwarded_before())
            for name in sysctls.FORWARDING.values():
                sysctls.change(name, "1")
        case Forwarding():
            _stop_forwarding()
        case MakeLink(link=link, there=there):
            rules.begin(ws)
            if isinstance(link, HostBridge):
                from dacha.engine.network import rollback

                rollback.make(ws.home, link)
                return {}
            iproute.batch(commands(link, there))
            # Before a guest opens it, and before it is a bridge port: no packet has passed so far.
            if found := drop_filter(link):
                traffic_control.attach({link.name: found})
            if isinstance(link, BridgeLink):
                # A guest is not a router of this host (RFC 4861 section 6.3.4), and cannot prevent the gateway from
                # using its address (RFC 4862 section 5.4).
                for setting in ("accept_ra", "accept_dad"):
                    with contextlib.suppress(HostError):  # a host without IPv6 has neither
                        sysctls.write(f"net/ipv6/conf/{link.name}/{setting}", "0")
            if isinstance(link, BridgeLink) and _rules_there(ws):
                _let_loopback_out(link)
        case ReattachTap():
            _reattach(ws, change)
        case RemoveLink(name=name, alias=alias) if ":bridge:" in alias:
            from dacha.engine.network import rollback

            rollback.unmake(ws.home, name, alias.rpartition(":")[2])
        case RemoveLink(name=name):
            iproute.batch([f"link delete {name}"])
        case LoadRules(unfiltered=lacking):
            try:
                ended = rules.load(ws, plan, lacking)
            except HostError:
                if not _rules_there(ws) and not _others(ws):
                    # If this host forwards packets only because of labs, it forwards only what their rules allow.
                    _stop_forwarding()
                raise
            for link in wanted_links(ws, plan).bridges():
                _let_loopback_out(link)
            return ended
        case RemoveRules():
            rules.remove(ws)
        case _:
            raise AssertionError(f"nothing carries out {change!r}")
    return {}


def _stop_forwarding() -> None:
    sysctls.put_back()
    transit.open_again()


def _reattach(ws: Workspace, change: ReattachTap) -> None:
    """Attach the guest's tap again, by the descriptor that its process was started with. Raises HostError."""
    record = ws.home.read(change.guest)
    if record.process is None or record.machine is None or not alive(record.process):
        raise HostError(f"the process of {change.guest} cannot be identified", remedy=f"dacha restart {change.guest}")
    words = Path(f"/proc/{record.process.pid}/cmdline").read_text().split("\0")
    given = next((w for w in words if w.startswith(f"tap,id=net{change.adapter},fd=")), None)
    if given is None:
        raise HostError(f"{change.guest} was started without that adapter", remedy=f"dacha restart {change.guest}")
    virtio = record.machine["adapters"][change.adapter]["model"] == "virtio"
    attach_again(record.process.pid, int(given.rpartition("=")[2]), change.link, virtio=virtio)


def _rules_there(ws: Workspace) -> bool:
    return ("inet", table_name(ws.lab.name)) in nft.tables()


def _let_loopback_out(link: BridgeLink) -> None:
    """A door on this host's loopback goes through the bridge: without this setting the kernel drops such a source.
    Never before the rules protect this host's loopback."""
    with contextlib.suppress(HostError):  # a link that could not be created has its own error
        sysctls.write(f"net/ipv4/conf/{link.name}/route_localnet", "1")


def _keep_router_advertisements(*, later: bool = False) -> None:
    """A host that forwards IPv6 stops accepting router advertisements (Linux: ip-sysctl, accept_ra) by default. Of
    links that appear `later`, only adapters are configured: those of other programs are their own business."""
    for link, seen in iproute.links().items():
        if link == "lo" or (seen.alias.startswith("dacha:") and ":bridge:" not in seen.alias) or (later and seen.kind):
            continue  # router advertisements of guests are ignored; a bridge over this host's adapter is its LAN
        name = f"net/ipv6/conf/{link}/accept_ra"
        if sysctls.read(name) == "1":
            sysctls.change(name, "2", later=later)


def keep_routers_heard() -> None:
    """The same for adapters that have appeared since, while this host forwards for the labs. Raises HostError."""
    if sysctls.FORWARDING[6] in sysctls.remembered():
        _keep_router_advertisements(later=True)
