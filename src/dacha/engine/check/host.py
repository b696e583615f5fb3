"""The lab against this host: missing files, used ports, resources that are too large."""

from __future__ import annotations

import os
from collections.abc import Mapping
from ipaddress import IPv4Address
from pathlib import Path

from dacha.core.apply.observed import ObservedGuest
from dacha.core.errors import HostError
from dacha.core.findings import ERROR, NOTE, WARNING, Finding
from dacha.core.lab.model import Guest
from dacha.core.plan.check import check_host
from dacha.core.plan.plan import Plan
from dacha.engine import register
from dacha.engine.check.guest import file_findings
from dacha.engine.disks.room import low_places
from dacha.engine.shares import shared_folders, smb
from dacha.engine.workspace import Workspace
from dacha.host import folders
from dacha.host.facts import PROGRAMS, existing, facts, program


def host_findings(ws: Workspace, plan: Plan, observed: Mapping[str, ObservedGuest]) -> list[Finding]:
    """All findings of `check` about this host."""
    findings = [*program_findings(), *shared_folders.daemon_findings(ws), *smb.server_findings(ws)]
    for guest in ws.lab.guests.values():
        findings += screen_findings(guest, observed.get(guest.name, ObservedGuest()))
        findings += [*shared_folders.findings(ws, guest), *smb.findings(ws, guest)]
        findings += file_findings(ws, guest, observed.get(guest.name, ObservedGuest()))
        if guest.start.at_boot and not _at_boot(ws.lab.name):
            what, path = "no service starts it at the boot of this host", ("guest", guest.name, "start")
            findings.append(
                Finding(NOTE, "at-boot", f"guest {guest.name}", what, "dacha caretaker install", path, "host")
            )
        if guest.archive:
            findings += _archive_findings(ws, guest.name)
    findings += _unit_findings(ws)
    for words in low_places(ws).values():
        findings.append(Finding(WARNING, "storage-low", "host", words, "free some space there", (), "host"))
    if folders.lingers() is False and folders.run().is_relative_to("/run/user"):
        what = f"the sockets of running guests are deleted when you log out, as they are in {folders.run()}"
        findings.append(Finding(NOTE, "lingering", "host", what, "loginctl enable-linger", (), "host"))
    if any(n.by_kernel for n in ws.lab.networks.values()):
        from dacha.engine.check.links import confinement_findings, kernel_findings
        from dacha.engine.network import live

        findings += kernel_findings(ws)
        findings += confinement_findings(ws)
        on = {name for name, seen in observed.items() if seen.running}
        findings += live.conflicts(live.started(ws, plan), {k: s for k, s in live.read(ws.home).items() if k[0] in on})
    findings += [*_usb_findings(ws), *_gate_findings(ws)]
    if ws.lab.open_firewall or (os.geteuid() == 0 and _passes_this_host(ws)):
        from dacha.engine.network import host_firewall

        findings += host_firewall.findings(ws, plan)
    bridged = any(n.kind == "bridge" for n in ws.lab.networks.values())
    if bridged or ws.lab.from_outside:
        # Other doors are reachable from the place they are meant for, whatever this host is.
        from dacha.core.reach.reach import never_entered
        from dacha.engine.router.host_view import host_view

        findings += never_entered(ws.lab, plan, host_view(ws))
    if any(n.boot for n in ws.lab.networks.values()):
        from dacha.engine.network.boot_files import boot_findings

        findings += boot_findings(ws)
    if ws.lab.people:
        from dacha.core.people.ways import never_let_in
        from dacha.core.reach.reach import reach
        from dacha.engine.check.guest import people_findings
        from dacha.engine.router.host_view import host_view

        findings += people_findings(ws)
        findings += never_let_in(ws.lab, reach(ws.lab, plan, host_view(ws)))
    if ws.lab.guests:
        findings += accelerator_findings(ws)
    findings += port_findings(ws, plan, observed)
    findings += register.conflicts(ws.home, plan)
    growth = disk_growth(ws)
    findings += check_host(ws.lab, facts([ws.home.folder, *growth]), {str(f): size for f, size in growth.items()})
    return findings


def _archive_findings(ws: Workspace, name: str) -> list[Finding]:
    """A folder for archives that cannot be used."""
    from dacha.engine.archive.due import archives

    try:
        archives(ws, name)
    except HostError as e:
        return [Finding(WARNING, "archives", f"guest {name}", e.what, e.remedy, ("guest", name, "archive"), "host")]
    return []


def _usb_findings(ws: Workspace) -> list[Finding]:
    """USB devices that guests should have and do not."""
    if not any(g.usb for g in ws.lab.guests.values()):
        return []
    from dacha.engine.guest import usb

    return usb.findings(ws)


def _unit_findings(ws: Workspace) -> list[Finding]:
    """A service that an older version of Dacha wrote, or that does not know the guests' times to stop."""
    from dacha.engine.caretaker.unit_file import installed

    if not installed(ws.lab.name):
        return []
    from dacha.engine.caretaker import unit

    if unit.current(ws):
        return []
    what = "the service of the caretaker is not as this version of Dacha would write it for this lab"
    return [Finding(NOTE, "unit-old", "host", what, "dacha caretaker install", (), "host")]


def _passes_this_host(ws: Workspace) -> bool:
    """True if traffic of the lab must pass this host's own firewall."""
    return any(n.managed for n in ws.lab.networks.values()) or any(d.from_lan for d in ws.lab.doors())


def _gate_findings(ws: Workspace) -> list[Finding]:
    """What guests in user mode can reach because this host has no protection against it."""
    used = dict.fromkeys(a.network for g in ws.lab.guests.values() for a in g.adapters)
    networks = [ws.lab.networks[name] for name in used if name in ws.lab.networks]
    shared = [n for n in networks if n.kind == "nat" and not n.by_kernel and not n.isolated]
    if not shared:
        return []
    from dacha.host import ask_first

    if not (why := ask_first.likely_missing()):
        return []
    found = []
    for net in shared:
        what = f"guests here reach services on this host's own loopback through {ws.plan.networks[net.name].gateway}"
        remedy = f"only isolated = true prevents this here, and it also removes the way out: {why}"
        found.append(Finding(NOTE, "host-loopback", f"network {net.name}", what, remedy, ("network", net.name), "host"))
    return found


def _at_boot(lab: str) -> bool:
    """True if this host starts the lab's caretaker at its boot. (Imported only for a lab that requires it.)"""
    from dacha.engine.caretaker.unit_file import installed

    return installed(lab)


def disk_growth(ws: Workspace) -> dict[Path, int]:
    """How many bytes the lab's disks may still grow, by the folder of their file system."""
    growth: dict[int, tuple[Path, int]] = {}
    devices: dict[Path, int] = {}
    for guest in ws.lab.guests.values():
        for disk in guest.disks:
            root = ws.home.folder
            if disk.storage in ws.lab.storages:
                root = ws.resolve(ws.lab.storages[disk.storage])
            try:
                written = ws.home.disk(guest.name, disk.name).stat().st_blocks * 512
            except OSError:
                written = 0
            device = devices.get(root)
            if device is None:
                device = devices[root] = existing(root).stat().st_dev
            first, so_far = growth.get(device, (root, 0))
            growth[device] = first, so_far + max(0, (disk.size or 0) - written)
    return dict(growth.values())


def program_findings() -> list[Finding]:
    """Missing programs. Only those without which no guest runs are errors."""
    found = []
    for name, package, purpose in PROGRAMS:
        if program(name) is None:
            severity = ERROR if name.startswith("qemu") else NOTE
            found.append(
                Finding(
                    severity,
                    "program-missing",
                    "host",
                    f"{name} is not installed: it {purpose}",
                    f"on Debian: apt install {package}",
                    (),
                    "host",
                )
            )
    return found


def accelerator_findings(ws: Workspace) -> list[Finding]:
    """A note if guests will run in software emulation although the lab file does not set it."""
    from dacha.hypervisor import accelerator

    choice = accelerator.choose(ws.lab.accelerator)
    if choice.name == "kvm" or ws.lab.accelerator == "tcg":
        return []
    return [
        Finding(
            NOTE, "emulated", "host", choice.why, 'if this is intended, set accelerator = "tcg" in [lab]', (), "host"
        )
    ]


def port_findings(
    ws: Workspace, plan: Plan, observed: Mapping[str, ObservedGuest], only: set[str] | None = None
) -> list[Finding]:
    """Host ports that a door needs but that are not available, with the program that uses each."""
    from dacha.host.probe import ports

    found = []
    for (guest, name), door in plan.doors.items():
        seen = observed.get(guest, ObservedGuest())
        if only is not None and guest not in only:
            continue
        if seen.running and seen.forwards is None:
            continue  # it hangs; its open ports cannot be determined from here
        for forward in door.forwards():
            if seen.forwards and forward in seen.forwards:
                continue
            # A door that moves between ports of its own guest closes the old one first.
            if seen.forwards and any((f.protocol, f.port) == (forward.protocol, forward.port) for f in seen.forwards):
                continue
            why = ports.why_not(forward.protocol, forward.listen, forward.port)
            if why:
                found.append(
                    Finding(
                        ERROR,
                        "port-held",
                        f"door {guest} {name}",
                        f"port {forward.port} of this host is not available: {why}",
                        "choose another, or remove the key port, and Dacha chooses one",
                        ("guest", guest, "door", name, "port"),
                        "host",
                    )
                )
                break
    return found


def screen_findings(guest: Guest, seen: ObservedGuest) -> list[Finding]:
    """The port of a guest's display, if it is not available."""
    has = seen.machine["screen"] if seen.running and seen.machine else None
    if guest.screen is None or (has and has["port"] == guest.screen.port):
        return []
    from dacha.host.probe import ports
    from dacha.hypervisor.live.screen import ADDRESSES

    why = ports.why_not("tcp", IPv4Address(ADDRESSES[guest.screen.origin]), guest.screen.port)
    if not why:
        return []
    what = f"port {guest.screen.port} of this host, for its display, is not available: {why}"
    path = ("guest", guest.name, "screen", "port")
    return [Finding(ERROR, "port-held", f"guest {guest.name}", what, "choose another", path, "host")]
