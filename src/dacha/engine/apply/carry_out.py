"""The function that carries out each kind of change."""

from __future__ import annotations

from collections.abc import Callable
from ipaddress import IPv4Network
from typing import Any

from dacha.core.apply.changes import (
    AskRouter,
    AttachDisk,
    AttachUsb,
    Caretaker,
    Change,
    ChangeAddress,
    ChangeInside,
    ChangeKeys,
    ChangeMachine,
    ChangeMedium,
    CloseFirewall,
    CloseForward,
    DeleteDisk,
    DetachDisk,
    DetachUsb,
    Forwarding,
    GrowDisk,
    LoadRules,
    MakeDisk,
    MakeHostKey,
    MakeLink,
    MoveDisk,
    MoveScreen,
    OpenFirewall,
    OpenForward,
    ReattachTap,
    RemoveLink,
    RemoveRules,
    StartGuest,
    StopGuest,
    WriteDown,
    WriteSeed,
)
from dacha.core.named import NamedTuple
from dacha.core.plan.doors import Forward
from dacha.engine.caretaker import process as caretaking
from dacha.engine.disks import disks, kept_disks
from dacha.engine.disks.disks import Progress
from dacha.engine.guest import prepare, usb
from dacha.engine.network import host_firewall, kernel
from dacha.engine.power import power
from dacha.engine.router import mappings
from dacha.engine.workspace import Workspace
from dacha.host.network import connections
from dacha.hypervisor.command_line import QMP
from dacha.hypervisor.live import removable, screen, user_network
from dacha.hypervisor.monitor.qmp import Qmp

# How long a guest that has left the lab may take to stop (seconds).
STOP_S = 60.0


class Work(NamedTuple):
    """The context of a change: the lab, the lab whose links and rules belong on this host (another one if only some
    guests are concerned), and the progress callback."""

    ws: Workspace
    whole: Workspace
    progress: Progress


# What else came of a change: its subject, and a description.
Further = list[tuple[str, str]]


def carry_out(work: Work, change: Change) -> Further:
    """Carry out one step; returns what else came of it. Raises DachaError if this host, or the guest, refuses it."""
    found = CARRIERS[type(change)](work, change)
    return found if isinstance(found, list) else []


def ended_words(count: int) -> str:
    return f"closed; ended {count} connection{'s' * (count != 1)} through it"


def _move_disk(work: Work, change: MoveDisk) -> None:
    from dacha.engine.disks.moving import move

    move(work.ws, change, work.progress)


def _grow_disk(work: Work, change: GrowDisk) -> Further:
    ws, guest = work.ws, change.guest
    disks.grow_disk(ws.home, guest, change.disk, change.size)
    if not ws.home.is_running(guest):
        return []
    from dacha.engine.inside.growing import follow

    return [(f"guest {guest}", follow(ws, guest, change.disk))]


def _delete_disk(work: Work, change: DeleteDisk) -> None:
    kept_disks.delete(work.ws.home, change)


def _move_screen(work: Work, change: MoveScreen) -> None:
    with Qmp(work.ws.home.run(change.guest) / QMP) as qmp:
        screen.listen(qmp, change.origin, change.port)
    record = work.ws.home.read(change.guest)
    if record.machine:
        shown = change.origin and change.port
        record.machine["screen"] = {"from": change.origin or "", "port": change.port or 0} if shown else None
        work.ws.home.write(change.guest, record)


def _open_forward(work: Work, change: OpenForward) -> None:
    with Qmp(work.ws.home.run(change.guest) / QMP) as qmp:
        user_network.open_forward(qmp, _adapter_of(work.ws, change.guest, change.forward), change.forward)


def _close_forward(work: Work, change: CloseForward) -> Further:
    with Qmp(work.ws.home.run(change.guest) / QMP) as qmp:
        user_network.close_forward(qmp, _adapter_of(work.ws, change.guest, change.forward), change.forward)
    process = work.ws.home.read(change.guest).process
    if change.forward.protocol != "tcp" or process is None:
        return []
    # QEMU closes the port, but not the connections that came through it.
    count, why = connections.shut(process.pid, change.forward.port)
    said = [ended_words(count)] if count else []
    if why:
        said.append(f"connections through it stay open ({why}): dacha restart {change.guest} ends them")
    return [(f"door {change.guest} port {change.forward.port}", words) for words in said]


def _adapter_of(ws: Workspace, guest: str, forward: Forward) -> int:
    """The index of the running adapter whose address a forward ends at, or else its network; the first if none does."""
    running = ws.home.read(guest).machine
    adapters = running["adapters"] if running else []
    exact = [n for n, a in enumerate(adapters) if a["address"] == str(forward.address)]
    # An address that was changed while the guest ran: QEMU still forwards to the former one.
    near = [n for n, a in enumerate(adapters) if a["subnet"] and forward.address in IPv4Network(a["subnet"])]
    return next(iter([*exact, *near]), 0)


def _change_medium(work: Work, change: ChangeMedium) -> None:
    with Qmp(work.ws.home.run(change.guest) / QMP) as qmp:
        removable.change(qmp, change.drive, change.path)
    record = work.ws.home.read(change.guest)
    if record.machine:
        record.machine["drives"][change.drive] = change.path
        work.ws.home.write(change.guest, record)


def _caretaker(work: Work, change: Caretaker) -> None:
    if change.on:
        if change.anew:
            from dacha.engine.caretaker import unit

            unit.renew(work.ws)
            caretaking.stop(work.ws.home)
        caretaking.start(work.ws)
    else:
        caretaking.stop(work.ws.home)


def _in_kernel(work: Work, change: Change) -> Further:
    ended = kernel.carry_out(work.whole, work.whole.plan, change)
    return [(f"door {' '.join(door)}", ended_words(count)) for door, count in ended.items()]


CARRIERS: dict[type, Callable[[Work, Any], object]] = {
    MakeDisk: lambda work, change: disks.make_disk(work.ws, change, work.progress),
    GrowDisk: _grow_disk,
    MoveDisk: _move_disk,
    AttachDisk: lambda work, change: disks.attach(work.ws.home, change),
    AttachUsb: lambda work, change: usb.attach(work.ws.home, change),
    DetachUsb: lambda work, change: usb.detach(work.ws.home, change),
    DetachDisk: lambda work, change: disks.detach(work.ws.home, change.guest, change.disk),
    DeleteDisk: _delete_disk,
    MoveScreen: _move_screen,
    WriteSeed: lambda work, change: prepare.write_seed(work.ws, work.ws.plan, work.ws.lab.guests[change.guest]),
    StopGuest: lambda work, change: power.stop(work.ws.home, [change.guest], wait_s=STOP_S, on_purpose=False),
    OpenForward: _open_forward,
    CloseForward: _close_forward,
    ChangeMedium: _change_medium,
    OpenFirewall: lambda work, change: host_firewall.open_for(work.whole, change.opened),
    CloseFirewall: lambda work, change: host_firewall.shut_behind(work.whole, change.closed),
    AskRouter: lambda work, change: mappings.ask(work.ws),
    Caretaker: _caretaker,
    MakeLink: _in_kernel,
    RemoveLink: _in_kernel,
    ReattachTap: _in_kernel,
    LoadRules: _in_kernel,
    RemoveRules: _in_kernel,
    Forwarding: _in_kernel,
}
# Kinds that are not carried out one by one, with the place that does it: a test verifies that every kind is in one of
# the two tables.
ELSEWHERE: dict[type, str] = {
    WriteDown: "all at once, before anything else: agreed.settle",
    MakeHostKey: "before known_hosts is written: apply.apply",
    ChangeKeys: "in all guests at once, before any is started: inside.keys.change_keys",
    ChangeAddress: "begun before the rules of this host are loaded, and confirmed afterwards: apply.readdress",
    ChangeInside: "in all guests at once, once their doors respond: inside.setup.change_inside",
    StartGuest: "all together, after everything else: power.start.start_all",
    ChangeMachine: "by the guest's next start",
}
