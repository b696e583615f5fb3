"""The lab against this host: files that are named but not there, ports that are held, promises too large."""

from __future__ import annotations

import os
from collections.abc import Mapping

from dacha.core.check import check_host
from dacha.core.difference import ObservedGuest
from dacha.core.errors import HostError
from dacha.core.findings import ERROR, NOTE, WARNING, Finding, Path
from dacha.core.lab import Guest
from dacha.core.plan import Plan
from dacha.core.units import show_size
from dacha.engine.machines import image_path, key_line
from dacha.engine.workspace import Workspace
from dacha.host.facts import PROGRAMS, facts, program


def host_findings(ws: Workspace, plan: Plan, observed: Mapping[str, ObservedGuest]) -> list[Finding]:
    """Everything about this host that `check` has to say."""
    findings = program_findings()
    for guest in ws.lab.guests.values():
        findings += file_findings(ws, guest, observed.get(guest.name, ObservedGuest()))
        if guest.start.at_boot:
            findings.append(
                Finding(
                    NOTE,
                    "at-boot",
                    f"guest {guest.name}",
                    "nothing starts guests at the host's boot yet",
                    "until then: dacha apply from the system's own start-up",
                    ("guest", guest.name, "start"),
                    "host",
                )
            )
    if ws.lab.guests:
        findings += accelerator_findings(ws)
    findings += port_findings(ws, plan, observed)
    store = ws.home.folder
    written = sum(_allocated(ws, g, n) for g in ws.lab.guests.values() for n in range(len(g.disks)))
    findings += check_host(ws.lab, facts([store]), str(store), written)
    return findings


def _allocated(ws: Workspace, guest: Guest, index: int) -> int:
    try:
        return ws.home.disk(guest.name, index).stat().st_blocks * 512
    except OSError:
        return 0


def program_findings() -> list[Finding]:
    """Programs that this host lacks. Only those without which no guest runs are errors."""
    found = []
    for name, package, purpose in PROGRAMS:
        if program(name) is None:
            severity = ERROR if name.startswith("qemu") else NOTE
            found.append(
                Finding(
                    severity,
                    "program-missing",
                    "host",
                    f"{name} is not on this machine: it {purpose}",
                    f"on Debian: apt install {package}",
                    (),
                    "host",
                )
            )
    return found


def file_findings(ws: Workspace, guest: Guest, seen: ObservedGuest) -> list[Finding]:
    """Images, kernels and key files of one guest that are missing or not what they should be."""
    found: list[Finding] = []

    def wrong(code: str, path: Path, error: HostError | ValueError) -> None:
        what, remedy = (error.what, error.remedy) if isinstance(error, HostError) else ((*error.args, ""))[:2]
        why = f": {error.why}" if isinstance(error, HostError) and error.why else ""
        found.append(
            Finding(ERROR, code, f"guest {guest.name}", what + why, remedy, ("guest", guest.name, *path), "host")
        )

    for n, disk in enumerate(guest.disks):
        if disk.base and n not in dict(seen.disks):
            from dacha.hypervisor.images import inspect

            try:
                inspect(image_path(ws, disk.base))
            except HostError as e:
                wrong("image", ("disk", n, "from"), e)
    found += minimum_findings(guest)
    for n, size in seen.disks:
        wanted = guest.disks[n].size if n < len(guest.disks) else None
        if wanted is not None and wanted < size:
            said = f"disk {n} has {show_size(size)} already, and a disk is never made smaller"
            remedy = f'size = "{show_size(size)}" or more'
            wrong("disk-shrink", ("disk", n, "size"), ValueError(said, remedy))
    for key, written in (("kernel", guest.boot.kernel), ("initrd", guest.boot.initrd)) if guest.boot else ():
        if written and not os.access(ws.resolve(written), os.R_OK):
            wrong(
                "boot-file",
                ("boot", key),
                ValueError(
                    f"there is no readable {key} {ws.resolve(written)}",
                    "name it relative to the lab file, or by its whole path",
                ),
            )
    for key, written in [("install", guest.install), *(("medium", m) for m in guest.media)]:
        if written:
            found += _medium_findings(ws, guest, key, written)
    if guest.firmware == "uefi":
        from dacha.hypervisor import firmware

        try:
            firmware.find()
        except HostError as e:
            wrong("firmware", ("firmware",), e)
    for n, written in enumerate(guest.login.keys if guest.login else ()):
        try:
            key_line(ws, written)
        except ValueError as e:
            wrong("key-file", ("login", "keys", n), e)
    return found


def minimum_findings(guest: Guest) -> list[Finding]:
    """Values under what the guest's system needs by its profile."""
    from dacha.core.profile import PLAIN
    from dacha.engine.profiles import profiles

    least = profiles().get(guest.system, PLAIN).minimum
    found = []
    disk = guest.disks[0].size if guest.disks else None
    for key, has, needs in (
        ("cpus", guest.cpus, least.cpus),
        ("memory", guest.memory, least.memory),
        ("disk", disk, least.disk),
    ):
        if has is not None and needs is not None and has < needs:
            shown = [str(v) if key == "cpus" else show_size(v) for v in (has, needs)]
            what = f"{key}: {shown[0]} is less than {guest.system} needs, {shown[1]}"
            found.append(
                Finding(
                    WARNING,
                    "under-minimum",
                    f"guest {guest.name}",
                    what,
                    f"give it {shown[1]} or more",
                    ("guest", guest.name, key),
                    "host",
                )
            )
    return found


def _medium_findings(ws: Workspace, guest: Guest, key: str, written: str) -> list[Finding]:
    """A medium that is not there, or that the guest's firmware cannot start from."""
    from dacha.core.nearest import did_you_mean
    from dacha.engine.media_store import Store

    store = Store(ws.lab)
    kept = None if "/" in written else store.find(written)
    subject, path = f"guest {guest.name}", ("guest", guest.name, key)
    if kept is None:
        if ws.resolve(written).is_file():
            return []
        names = [k.name for k in store.all()]
        remedy = did_you_mean(written, names, f"add it: dacha media add FILE --name {written}")
        return [Finding(ERROR, "medium", subject, f"{key}: there is no medium {written}", remedy, path, "host")]
    if key == "install" and kept.facts.get("kind") == "iso" and not kept.facts.get(guest.firmware):
        other = "uefi" if guest.firmware == "bios" else "bios"
        remedy = f'firmware = "{other}"' if kept.facts.get(other) else "it is no medium to install from"
        what = f"install: {written} does not boot by {guest.firmware.upper()}"
        return [Finding(ERROR, "medium-boot", subject, what, remedy, path, "host")]
    return []


def accelerator_findings(ws: Workspace) -> list[Finding]:
    """One note where guests will run in software emulation though the lab did not ask for it."""
    from dacha.hypervisor import accelerator

    choice = accelerator.choose(ws.lab.accelerator)
    if choice.name == "kvm" or ws.lab.accelerator == "tcg":
        return []
    return [
        Finding(
            NOTE, "emulated", "host", choice.why, 'accelerator = "tcg" in [lab] says that this is meant', (), "host"
        )
    ]


def port_findings(
    ws: Workspace, plan: Plan, observed: Mapping[str, ObservedGuest], only: set[str] | None = None
) -> list[Finding]:
    """Host ports that a door needs and does not have, with the program that holds each."""
    from dacha.host import ports

    found = []
    for (guest, name), door in plan.doors.items():
        seen = observed.get(guest, ObservedGuest())
        if only is not None and guest not in only:
            continue
        if seen.running and seen.forwards is None:
            continue  # it hangs; what it holds open cannot be told from here
        for forward in door.forwards():
            if seen.forwards and forward in seen.forwards:
                continue
            # A door that moves between ports of its own guest frees the old one first.
            if seen.forwards and any((f.protocol, f.port) == (forward.protocol, forward.port) for f in seen.forwards):
                continue
            why = ports.why_not(forward.protocol, forward.listen, forward.port)
            if why:
                found.append(
                    Finding(
                        ERROR,
                        "port-held",
                        f"door {guest} {name}",
                        f"port {forward.port} of this host cannot be had: {why}",
                        "choose another, or leave port out to have one chosen",
                        ("guest", guest, "door", name, "port"),
                        "host",
                    )
                )
                break
    return found
