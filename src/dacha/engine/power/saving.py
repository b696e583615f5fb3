"""Save a running guest's memory to disk and free this host; let it continue from there.

Each step leaves files that tell the next command what to do, whenever a command is killed (`settle`): until the record
of the state exists, the guest keeps running; from then on it is saved; from the moment before it runs again, its
state is no longer used.
"""

from __future__ import annotations

import contextlib
import os
import time
from collections.abc import Callable, Iterator
from pathlib import Path

from dacha.core.apply.faults import held
from dacha.core.apply.machine import Machine
from dacha.core.apply.observed import HUNG, OFF, PAUSED, SAVED
from dacha.core.errors import AnswerNo, DachaError, HostError
from dacha.core.units import MIB, show_size
from dacha.engine.disks.room import room, space
from dacha.engine.guest import usb
from dacha.engine.guest.observe import full_name, observe_guest
from dacha.engine.home import Home
from dacha.engine.log.ends import note_ends
from dacha.engine.log.journal import note
from dacha.engine.power import saved
from dacha.engine.power.saved import Saved
from dacha.engine.power.stopped import clean_up, may_start
from dacha.host.files import lock_briefly, refused
from dacha.hypervisor import process
from dacha.hypervisor.command_line import QMP
from dacha.hypervisor.images import chain
from dacha.hypervisor.machine_types import program_identity
from dacha.hypervisor.monitor import memory
from dacha.hypervisor.monitor.qmp import Qmp

Progress = Callable[[float], None]
# More than the guest's memory that its state may take (bytes): devices, and their tables.
EXTRA = 64 << 20


def save(home: Home, name: str, progress: Progress = lambda share: None) -> Saved:
    """Save a guest's memory to disk; its process ends. The lab's lock must be held. Raises AnswerNo or HostError if
    that is not possible: then the guest keeps running."""
    settle(home, name)
    home.refuse_if_archived(name)
    seen = observe_guest(home, name, forwards=False)
    _refuse(home, name, seen.state, seen.fault, installing=seen.installing is not None)
    record = home.read(name)
    assert record.machine is not None
    usb.release(home, name)
    with Qmp(home.run(name) / QMP, timeout_s=30.0) as qmp:
        if found := memory.obstacles(qmp):
            raise AnswerNo(f"{name} cannot be saved", why="; ".join(found), remedy=f"dacha stop {name}")
        refuse_without_room(home, name, record.machine)
        _begin(home, name, paused=seen.state == PAUSED)
        try:
            state = _written(home, name, qmp, progress)
        except BaseException:
            with contextlib.suppress(DachaError, OSError):
                _go_on(home, name, qmp)
            raise
        with contextlib.suppress(DachaError, OSError):
            qmp.execute("quit")
    note(home, "saved", name, text=f"{show_size(state.size)} of memory and devices")
    _ended(home, name)
    return state


def _refuse(home: Home, name: str, state: str, fault: str, *, installing: bool) -> None:
    if state == OFF:
        raise AnswerNo(f"{name} is off: there is nothing to save")
    if state == SAVED:
        raise AnswerNo(f"{name} is already saved", remedy=f"dacha start {name}")
    if state == HUNG:
        raise AnswerNo(
            f"{name} does not respond: QEMU hangs, or its process is stopped", remedy=f"dacha restart {name} --force"
        )
    if fault:
        still = held(name, fault, room(home, name))
        raise AnswerNo(f"{name} is suspended: {still.what}", why=still.why, remedy=still.remedy)
    if installing:
        raise AnswerNo(f"{name} is being installed", remedy="wait until its installation is complete: dacha status")
    refuse_replugged(home, name)


def refuse_without_room(home: Home, name: str, machine: Machine) -> None:
    """Refuse to write a guest's memory to a file system that may be too small for it. Raises HostError."""
    needed = machine["memory_mib"] * MIB + EXTRA
    free = space(home.guest(name))[0]
    if free < needed:
        raise HostError(
            f"no room to save {name}: its memory may take {show_size(needed)}",
            why=f"{show_size(free)} is free in {home.guest(name)}",
            remedy=f"free some space there, or: dacha stop {name}",
        )


def refuse_replugged(home: Home, name: str) -> None:
    """Refuse to write the memory of a guest whose devices could not be created again as they are. Raises AnswerNo."""
    record = home.read(name)
    if record.machine is None:
        raise AnswerNo(f"the configuration that {name} was started with is not known", remedy=f"dacha restart {name}")
    if secret := [disk for disk, path in home.disks(name) if chain.passphrase_source(path)]:
        raise AnswerNo(
            f"the memory of {name} cannot be saved: its disk {secret[0]} is encrypted",
            why="the memory would be on this host's disk as it is, with what the guest has read from its own",
            remedy=f"dacha stop {name}, or a snapshot without its memory",
        )
    if record.replugged:
        raise AnswerNo(
            f"{name} cannot be saved: a disk was attached or detached while it runs",
            why="a saved guest continues with the devices of its start only",
            remedy=f"dacha restart {name}, then save it",
        )


def _begin(home: Home, name: str, *, paused: bool) -> None:
    """Record that the guest is being saved, and whether it was paused before."""
    home.saving_note(name).write_text("paused" if paused else "on")


def _written(home: Home, name: str, qmp: Qmp, progress: Progress) -> Saved:
    """Write the state, and record it when it is complete on the disk."""
    record = home.read(name)
    assert record.machine is not None
    with new_file(home.saved_memory(name)) as (fd, part):
        qmp.execute("stop")
        memory.write(qmp, fd, progress)
        os.fsync(fd)
        size = os.fstat(fd).st_size
        state = Saved(
            at=time.time(),
            size=size,
            **host_facts(qmp, record.machine),
            disks=saved.stamps(home, name, [d["name"] for d in record.machine["disks"]]),
        )
        os.replace(part, home.saved_memory(name))
    record.stopped_on_purpose = True
    home.write(name, record)
    saved.write(home, name, state)
    return state


def host_facts(qmp: Qmp, machine: Machine) -> dict[str, str]:
    """What a guest's memory requires of a host: QEMU's version and file, and the processor if the guest runs on it."""
    version = qmp.execute("query-version")["qemu"]
    return {
        "qemu": f"{version['major']}.{version['minor']}.{version['micro']}",
        "program": program_identity(),
        "processor": saved.processor() if machine["accelerator"] == "kvm" else "",
    }


@contextlib.contextmanager
def new_file(path: Path) -> Iterator[tuple[int, Path]]:
    """A new file beside `path`, open and locked: the next command removes it if this one is killed. Raises
    HostError."""
    part = path.with_name(f".{path.name}.{os.urandom(4).hex()}.part")
    try:
        fd = os.open(part, os.O_RDWR | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC, 0o600)
    except OSError as e:
        raise refused(part, e) from e
    try:
        lock_briefly(fd)
        yield fd, part
    except OSError as e:
        raise refused(path, e) from e
    finally:
        os.close(fd)
        part.unlink(missing_ok=True)


def _go_on(home: Home, name: str, qmp: Qmp) -> None:
    """Let a guest that was being saved run again as it did before."""
    if saved.read(home, name) is not None:
        return  # it is saved: only its process is left to end
    try:
        paused = home.saving_note(name).read_text() == "paused"
    except OSError:
        paused = False
    memory.let_run(qmp, paused=paused)
    _forget(home, name)


def _forget(home: Home, name: str) -> None:
    """Remove what a save left that did not reach its record: the guest is not saved."""
    may_start(home, [name])
    home.saved_memory(name).unlink(missing_ok=True)
    home.saving_note(name).unlink(missing_ok=True)


def _ended(home: Home, name: str) -> None:
    """Wait for the end of a saved guest's process, and clean up after it."""
    found = process.find(home.run(name), home.process_lock(name), full_name(home, name), home.read(name).process)
    if found is not None and found.process is not None:
        process.power_off(found.process, home.run(name))
    clean_up(home, name)
    home.saving_note(name).unlink(missing_ok=True)
    note_ends(home, [name], locked=True)


def settle(home: Home, name: str) -> None:
    """Complete what a killed command left of saving or continuing a guest. The lab's lock must be held. Raises
    DachaError."""
    marks = (home.saved_note(name), home.saving_note(name), home.continuing_note(name))
    is_saved, saving, continuing = (path.exists() for path in marks)
    if not (is_saved or saving or continuing):
        return
    if not home.is_running(name):
        if saving and not is_saved:
            _forget(home, name)
        home.saving_note(name).unlink(missing_ok=True)
        if continuing:
            # It had begun to run again when its process ended: its disks may have changed.
            saved.discard(home, name)
        return
    with Qmp(home.run(name) / QMP, timeout_s=10.0) as qmp:
        status = str(qmp.execute("query-status")["status"])
        if is_saved and status != "running":
            # Its state is on the disk, and nothing has run since.
            with contextlib.suppress(DachaError, OSError):
                qmp.execute("quit")
        elif is_saved:
            saved.discard(home, name)
            note(home, "discarded", name, text="the guest was already running again")
        elif continuing:
            if status != "running":
                qmp.execute("cont")
            saved.discard(home, name)
        elif status != "running":
            _go_on(home, name, qmp)
        else:
            _forget(home, name)
    if is_saved and status != "running":
        _ended(home, name)
    home.saving_note(name).unlink(missing_ok=True)


def load(home: Home, name: str, then: Callable[[Qmp], None]) -> None:
    """Read the saved state into a QEMU that was started for it, let the guest run, and call `then`. Raises HostError;
    then its state is kept, unless the guest runs."""
    try:
        fd = os.open(home.saved_memory(name), os.O_RDONLY | os.O_NOFOLLOW | os.O_CLOEXEC)
    except OSError as e:
        raise refused(home.saved_memory(name), e, "read") from e
    try:
        with Qmp(home.run(name) / QMP, timeout_s=30.0) as qmp:
            memory.read(qmp, fd, lambda share: None)
            # From here on its disks change: the state must never be used again.
            os.rename(home.saved_note(name), home.continuing_note(name))
            qmp.execute("cont")
            then(qmp)
    finally:
        os.close(fd)
    saved.discard(home, name)
