"""USB devices of this host in the lab's guests: what is plugged in, who has it, and what is to change."""

from __future__ import annotations

import contextlib
from collections.abc import Collection, Iterator

from dacha.core.apply.changes.usb_changes import AttachUsb, DetachUsb
from dacha.core.apply.usb import Has, Seat, seats, usb_changes
from dacha.core.errors import DachaError, HostError
from dacha.core.findings import WARNING, Finding
from dacha.core.lab.usb import Usb
from dacha.engine.home import Home
from dacha.engine.log.changes import note_done
from dacha.engine.workspace import Workspace
from dacha.host.devices import usb as devices
from dacha.hypervisor.command_line import QMP, WATCH


def uses_usb(ws: Workspace) -> bool:
    """True if a guest of the lab file names a device."""
    return any(g.usb for g in ws.lab.guests.values())


def _wanted(ws: Workspace) -> dict[str, tuple[Usb, ...]]:
    """The entries of each guest that has any."""
    return {g.name: g.usb for g in ws.lab.guests.values() if g.usb}


def has_controller(home: Home, name: str) -> bool:
    """True if a guest runs that was started with a USB controller."""
    machine = home.read(name).machine if home.is_running(name) else None
    return bool(machine and machine.get("usb"))


def _has(home: Home) -> dict[str, Has]:
    """What running guests with a controller have; without those that do not respond."""
    found: dict[str, Has] = {}
    on = [name for name in home.guests() if has_controller(home, name)]
    if on:
        from dacha.hypervisor.live.usb import attached
        from dacha.hypervisor.monitor.qmp import Qmp

        for name in on:
            with contextlib.suppress(OSError, DachaError), Qmp(home.run(name) / WATCH, timeout_s=2.0) as qmp:
                found[name] = {a.identifier: a.at for a in attached(qmp)}
    return found


def seated(ws: Workspace) -> dict[str, list[Seat]]:
    """Every guest's entries with the devices of this host."""
    return seats(_wanted(ws), devices.devices(), _has(ws.home)) if uses_usb(ws) else {}


def changes(ws: Workspace, only: Collection[str] | None = None) -> list[AttachUsb | DetachUsb]:
    """What gives running guests their devices now; of all guests, or only of some."""
    has = _has(ws.home)
    if not has:
        return []
    found = usb_changes(seats(_wanted(ws), devices.devices(), has), has)
    return [c for c in found if only is None or c.guest in only]


def attach(home: Home, change: AttachUsb) -> None:
    """Carry out a change. Raises HostError."""
    from dacha.hypervisor.live import usb
    from dacha.hypervisor.monitor.qmp import Qmp

    with Qmp(home.run(change.guest) / QMP) as qmp:
        usb.attach(qmp, change.usb, change.found)


def detach(home: Home, change: DetachUsb) -> None:
    """Carry out a change. Raises HostError."""
    from dacha.hypervisor.live import usb
    from dacha.hypervisor.monitor.qmp import Qmp

    with Qmp(home.run(change.guest) / QMP) as qmp:
        usb.detach(qmp, change.identifier)


def release(home: Home, name: str) -> None:
    """Take all devices away from a guest whose memory is to be written: another process could not continue with them.
    The guest gets them again by `follow`, or at its next start. Raises HostError."""
    if not has_controller(home, name):
        return
    for identifier in _has(home).get(name, {}):
        detach(home, DetachUsb(name, identifier))


def follow(
    ws: Workspace, only: Collection[str] | None = None
) -> Iterator[tuple[AttachUsb | DetachUsb, DachaError | None]]:
    """Give running guests what is plugged in, and take away what is not. The lab's lock must be held. Yields each
    change with its error."""
    for change in changes(ws, only):
        try:
            if isinstance(change, AttachUsb):
                attach(ws.home, change)
            else:
                detach(ws.home, change)
        except (DachaError, OSError) as e:
            yield change, e if isinstance(e, DachaError) else HostError(str(e))
            continue
        note_done(ws.home, change)
        yield change, None


def findings(ws: Workspace) -> list[Finding]:
    """Devices that a guest does not have, with the reason."""
    found = []
    for name, entries in seated(ws).items():
        path = ("guest", name, "usb")
        for seat in entries:
            if seat.given:
                continue
            what, remedy = f"USB device {seat.usb} is not plugged in", "plug it in: dacha host lists what is there"
            if seat.use:
                what, remedy = f"USB device {seat.usb} is not given to the guest: {seat.use}", seat.use.remedy
            elif seat.holder == name:
                what = f"USB device {seat.usb}: another entry of this guest already has it"
                remedy = f"dacha guest edit {name} --remove-usb {seat.usb.written}"
            elif seat.holder:
                what = f"USB device {seat.usb} is not given to the guest: {seat.holder} has it"
                remedy = f"dacha guest edit {seat.holder} --remove-usb {seat.usb.written}, then dacha apply"
            found.append(Finding(WARNING, "usb", f"guest {name}", what, remedy, path, "host"))
    return found
