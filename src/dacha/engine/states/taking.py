"""Take and remove snapshots, of one guest or of several at the same moment."""

from __future__ import annotations

import contextlib
import os
import time
from collections.abc import Callable, Iterator
from pathlib import Path

from dacha.core.apply.observed import HUNG, OFF, ON, SAVED, ObservedGuest
from dacha.core.errors import AnswerNo, DachaError, HostError
from dacha.core.named import NamedTuple
from dacha.core.states.snapshot import Snapshot
from dacha.core.units import MIB, show_size
from dacha.engine.disks.disks import attached
from dacha.engine.disks.room import room
from dacha.engine.guest import usb
from dacha.engine.guest.observe import observe_guest
from dacha.engine.home import Home
from dacha.engine.log.journal import note
from dacha.engine.power import saving
from dacha.engine.side_by_side import side_by_side
from dacha.engine.states import beside, guard, records
from dacha.engine.states.records import INSIDE, Kept
from dacha.host.log.invoker import invoker
from dacha.hypervisor.command_line import QMP
from dacha.hypervisor.images import chain, snapshots
from dacha.hypervisor.live import disk_snapshots
from dacha.hypervisor.live.nodes import node_of
from dacha.hypervisor.monitor import agent, memory
from dacha.hypervisor.monitor.qmp import Qmp

Progress = Callable[[str, float], None]
# The least free space at a disk: a snapshot copies its tables.
LEAST = 16 * MIB
# How long guests may stay stopped while their memory is written (seconds).
MEMORY_S = 3600.0
# How many agents are asked at the same time.
AT_ONCE = 8


class Taken(NamedTuple):
    """A snapshot that was taken of a guest, and how long the guest was stopped for it (seconds; None if it was not
    running)."""

    guest: str
    snapshot: Snapshot
    stopped_s: float | None


def take(
    home: Home, guests: dict[str, list[str]], name: str, about: str, *, with_memory: bool, freeze: bool,
    progress: Progress = lambda what, share: None,
) -> list[Taken]:  # fmt: skip
    """Take a snapshot of these guests at the same moment: of each, the disks named. The lab's lock must be held. Raises
    DachaError; then no guest has the snapshot, and all run as before."""
    seen = {}
    for guest in guests:
        home.refuse_if_archived(guest)
        records.refuse_name(home, guest, name)
        seen[guest] = observe_guest(home, guest, forwards=False)
        _refuse(home, guest, seen[guest], with_memory=with_memory)
    made = {guest: _begun(home, guest, name, about, disks, seen[guest]) for guest, disks in guests.items()}
    on = [g for g in guests if seen[g].state == ON]
    try:
        frozen = _with_agents(home, on) if freeze and not with_memory else []
        limit_s = guard.FROZEN_S if frozen else MEMORY_S
        with guard.guarded([home.run(g) for g in frozen], [home.run(g) for g in on], limit_s):
            stopped = _at_one_moment(home, made, seen, frozen, with_memory, progress)
    except BaseException:
        for guest, kept in made.items():
            with contextlib.suppress(DachaError, OSError):
                undo(home, guest, kept.snapshot)
        raise
    found = []
    for guest, kept in made.items():
        snapshot = kept.snapshot._replace(stage="", frozen=guest in frozen)
        with contextlib.suppress(OSError):
            memory_file = records.file_of(home, guest, snapshot, "memory")
            snapshot = snapshot._replace(memory=memory_file.stat().st_size)
        records.write(home, guest, kept._replace(snapshot=snapshot))
        records.set_now(home, guest, snapshot.id)
        note(home, "snapshot", guest, name=name, text="taken")
        found.append(Taken(guest, snapshot, stopped.get(guest)))
    return found


def _refuse(home: Home, guest: str, seen: ObservedGuest, *, with_memory: bool) -> None:
    """Refuse a guest of which no snapshot can be taken now. Raises AnswerNo, HostError."""
    if seen.state == SAVED:
        raise AnswerNo(f"{guest} is saved to disk, and its disks belong to that state", remedy=f"dacha start {guest}")
    if seen.state == HUNG or seen.fault:
        raise AnswerNo(f"{guest} does not respond, or is suspended", remedy=f"dacha trace {guest}")
    if seen.installing is not None and seen.running:
        raise AnswerNo(f"{guest} is being installed", remedy="wait until its installation is complete: dacha status")
    if with_memory:
        if seen.state == OFF:
            raise AnswerNo(f"{guest} is off: it has no memory to save", remedy="start it first, or omit --memory")
        usb.release(home, guest)
        with Qmp(home.run(guest) / QMP, timeout_s=10.0) as qmp:
            if found := memory.obstacles(qmp):
                raise AnswerNo(
                    f"the memory of {guest} cannot be saved",
                    why="; ".join(found),
                    remedy="use the command without --memory",
                )
        saving.refuse_replugged(home, guest)
    if with_memory and (machine := home.read(guest).machine):
        saving.refuse_without_room(home, guest, machine)
    if (free := room(home, guest)) and free[0] < LEAST:
        raise HostError(
            f"no room for a snapshot of {guest}", why=f"{show_size(free[0])} is free in {free[1]}",
            remedy="free some space there",
        )  # fmt: skip


def _begun(home: Home, guest: str, name: str, about: str, disks: list[str], seen: ObservedGuest) -> Kept:
    """Record a snapshot that is about to be taken: if this command is killed, the next one removes it."""
    record, by = home.read(guest), invoker()
    inside = {key: value for key, value in vars(record).items() if key in INSIDE}
    snapshot = Snapshot(
        id=os.urandom(4).hex(), name=name, about=about, at=time.time(), by=by.words(),
        parent=records.now(home, guest), disks=tuple(disks), running=seen.running, frozen=False, memory=0,
        stage="taking",
    )  # fmt: skip
    kept = Kept(snapshot, inside, dict(record.machine) if record.machine and seen.running else None)
    records.write(home, guest, kept)
    return kept


def _with_agents(home: Home, guests: list[str]) -> list[str]:
    """The guests whose agent answers."""
    answers = side_by_side(lambda g: agent.answers(home.run(g), guard.AGENT_S), guests, AT_ONCE) if guests else []
    return [g for g, yes in zip(guests, answers, strict=True) if yes]


def _at_one_moment(
    home: Home, made: dict[str, Kept], seen: dict[str, ObservedGuest], frozen: list[str], with_memory: bool,
    progress: Progress,
) -> dict[str, float]:  # fmt: skip
    """Take the snapshots while all these guests are frozen and stopped; how long each was stopped. `frozen` are left
    with those whose file systems were really frozen."""
    with contextlib.ExitStack() as running:
        if frozen:
            done = side_by_side(lambda g: guard.freeze(home.run(g)), frozen, AT_ONCE)
            running.callback(_thawed, home, list(frozen))
            frozen[:] = [g for g, yes in zip(frozen, done, strict=True) if yes]
        monitors = {g: running.enter_context(Qmp(home.run(g) / QMP, timeout_s=60.0)) for g in made if seen[g].running}
        began: dict[str, float] = {}
        with _stopped({g: q for g, q in monitors.items() if seen[g].state == ON}, began):
            for guest, kept in made.items():
                _taken(home, guest, kept.snapshot, monitors.get(guest))
                if with_memory:
                    _remembered(home, guest, kept, monitors[guest], progress)
                    if seen[guest].state != ON:
                        memory.let_run(monitors[guest], paused=True)
            stopped = {g: time.monotonic() - at for g, at in began.items()}
    return stopped


def _thawed(home: Home, guests: list[str]) -> None:
    side_by_side(lambda g: guard.thaw(home.run(g)), guests, AT_ONCE)


@contextlib.contextmanager
def _stopped(monitors: dict[str, Qmp], began: dict[str, float]) -> Iterator[None]:
    """Stop the virtual CPUs of these guests, one right after the other, and let them run again."""
    try:
        for guest, qmp in monitors.items():
            began[guest] = time.monotonic()
            qmp.execute("stop")
        yield
    finally:
        for guest in began:
            with contextlib.suppress(DachaError, OSError):
                memory.let_run(monitors[guest])


def _taken(home: Home, guest: str, snapshot: Snapshot, qmp: Qmp | None) -> None:
    if qmp is not None:
        disk_snapshots.take(qmp, [node_of(qmp, d) for d in snapshot.disks], snapshot.inside)
    else:
        for disk in snapshot.disks:
            snapshots.take(image(home, guest, disk), snapshot.inside, chain.key(home.disk(guest, disk)))
    beside.copy(home, guest, snapshot)


def _remembered(home: Home, guest: str, kept: Kept, qmp: Qmp, progress: Progress) -> None:
    snapshot, machine = kept.snapshot, home.read(guest).machine
    assert machine is not None
    kept.inside["saved"] = saving.host_facts(qmp, machine)
    with saving.new_file(records.file_of(home, guest, snapshot, "memory")) as (fd, part):
        memory.write(qmp, fd, lambda share: progress(f"saving the memory of {guest}", share))
        os.fsync(fd)
        os.replace(part, records.file_of(home, guest, snapshot, "memory"))


def image(home: Home, guest: str, disk: str) -> Path:
    """The image of a disk, wherever it is; its header must be as recorded. Raises HostError."""
    return chain.layers(home.disk(guest, disk))[0][0].resolve()


def undo(home: Home, guest: str, snapshot: Snapshot) -> None:
    """Delete a snapshot from the disks that have it, and its files. Raises DachaError."""
    inside = attached(home, guest)
    with contextlib.ExitStack() as stack:
        qmp = stack.enter_context(Qmp(home.run(guest) / QMP, timeout_s=60.0)) if inside else None
        for disk in snapshot.disks:
            try:
                path = image(home, guest, disk)
            except HostError:
                continue  # its file is gone, or another one is in its place: it has no snapshot of ours
            if qmp is not None and disk in inside:
                disk_snapshots.delete(qmp, node_of(qmp, disk), snapshot.inside)
                continue
            # A process that was killed with its command may be about to write the snapshot.
            snapshots.wait_unwritten(path)
            if snapshot.inside in snapshots.in_image(path):
                snapshots.delete(path, snapshot.inside, chain.key(home.disk(guest, disk)))
    records.forget(home, guest, snapshot)


def remove(home: Home, guest: str, name: str) -> int:
    """Remove a snapshot; returns the bytes that were freed. The lab's lock must be held. Raises UsageError,
    DachaError."""
    home.refuse_if_archived(guest)
    kept = records.named(home, guest, name)
    before = _used(home, guest, kept.snapshot)
    records.write(home, guest, kept._replace(snapshot=kept.snapshot._replace(stage="removing")))
    records.relink(home, guest, kept.snapshot)
    undo(home, guest, kept.snapshot)
    note(home, "snapshot", guest, name=name, text="removed")
    return max(0, before - _used(home, guest, kept.snapshot))


def _used(home: Home, guest: str, snapshot: Snapshot) -> int:
    """The space on the host of the files that a snapshot concerns (bytes)."""
    paths = [home.disk(guest, d) for d in snapshot.disks]
    paths += records.folder(home, guest).glob(f"{snapshot.id}.*")
    used = 0
    for path in paths:
        with contextlib.suppress(OSError):
            used += path.stat().st_blocks * 512
    return used
