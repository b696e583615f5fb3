"""Restore a snapshot: the guest's disks, and with a snapshot that has it, its memory, are what they were."""

from __future__ import annotations

import contextlib
import os
import time

from dacha.core.apply.machine import machine_from
from dacha.core.errors import AnswerNo, DachaError
from dacha.core.named import NamedTuple
from dacha.core.states.snapshot import Snapshot
from dacha.engine.home import Home
from dacha.engine.log.journal import note
from dacha.engine.power import power, saved
from dacha.engine.states import beside, records, taking
from dacha.engine.states.records import Kept
from dacha.hypervisor.images import chain, snapshots


class Restored(NamedTuple):
    """A restored snapshot: whether the guest was running before, whether it continues with the snapshot's memory, and
    the disks that the guest has now and the snapshot does not."""

    guest: str
    snapshot: Snapshot
    was_running: bool
    continues: bool
    left: tuple[str, ...]


def refuse(home: Home, guest: str, name: str, *, with_memory: bool) -> Kept:
    """The snapshot of that name, if it can be restored. Raises UsageError, AnswerNo; nothing is changed."""
    kept = records.named(home, guest, name)
    snapshot = kept.snapshot
    for disk in snapshot.disks:
        why = ""
        try:
            if snapshot.inside not in snapshots.in_image(taking.image(home, guest, disk)):
                why = "another image is in its place, or another program removed the snapshot"
        except (DachaError, OSError) as e:
            why = e.what if isinstance(e, DachaError) else str(e)
        if why:
            raise AnswerNo(
                f"disk {disk} of {guest} does not have the snapshot {name}", why=why,
                remedy=f"restore the image that had it, or: dacha snapshot remove '{name}' {guest}",
            )  # fmt: skip
    if snapshot.memory and with_memory:
        file = records.file_of(home, guest, snapshot, "memory")
        why = "" if file.is_file() and file.stat().st_size == snapshot.memory else f"{file} is gone or was changed"
        why = why or saved.host_misfit(_state(home, guest, kept), (kept.machine or {}).get("machine_type")) or ""
        if why:
            raise AnswerNo(
                f"{guest} cannot continue with the memory of the snapshot {name}", why=why,
                remedy=f"restore its disks only: dacha snapshot restore '{name}' {guest} --without-memory",
            )  # fmt: skip
    return kept


def restore(home: Home, guest: str, kept: Kept, *, with_memory: bool) -> Restored:
    """Restore a snapshot that `refuse` has let pass. A guest that runs is powered off: its present state is lost. The
    lab's lock must be held. Raises DachaError; the next command completes what was begun."""
    home.refuse_if_archived(guest)
    snapshot = kept.snapshot
    was_running = home.is_running(guest)
    if was_running:
        power.stop(home, [guest], wait_s=0.0, force=True, on_purpose=False)
    memory = bool(snapshot.memory and with_memory)
    records.set_restoring(home, guest, f"{snapshot.id} {int(memory)}")
    _carry_out(home, guest, kept, memory=memory, cut=was_running)
    has = {name for name, _ in home.disks(guest)}
    return Restored(guest, snapshot, was_running, memory, tuple(sorted(has - set(snapshot.disks))))


def finish(home: Home, guest: str, noted: str) -> None:
    """Complete a restoration that was interrupted; one whose snapshot is gone is given up. Raises DachaError."""
    identifier, _, memory = noted.partition(" ")
    for kept in records.read(home, guest):
        if kept.snapshot.id == identifier and not home.is_running(guest):
            _carry_out(home, guest, kept, memory=memory == "1", cut=True)
            return
    records.set_restoring(home, guest, None)


def _carry_out(home: Home, guest: str, kept: Kept, *, memory: bool, cut: bool) -> None:
    """Restore a snapshot; with `cut` a process was ended on the way, and may have left space without an owner."""
    snapshot = kept.snapshot
    if saved.discard(home, guest):
        note(home, "discarded", guest, text=f"the snapshot {snapshot.name} was restored")
    for disk in snapshot.disks:
        image, secret = taking.image(home, guest, disk), chain.key(home.disk(guest, disk))
        snapshots.go_back(image, snapshot.inside, secret)
        if cut:
            # Before a saved state records how the images are.
            with contextlib.suppress(DachaError):
                snapshots.free_lost(image, secret)
    beside.put_back(home, guest, snapshot)
    record = home.read(guest)
    for key in records.INSIDE:
        if key in kept.inside:
            setattr(record, key, kept.inside[key])
    record.installing = None
    if memory and kept.machine:
        record.machine = machine_from(kept.machine)
        record.replugged = False
    record.stopped_on_purpose = True
    home.write(guest, record)
    if memory:
        # The same file under another name: it is only read.
        os.link(records.file_of(home, guest, snapshot, "memory"), home.saved_memory(guest))
        saved.write(home, guest, _state(home, guest, kept))
    records.set_now(home, guest, snapshot.id)
    records.set_restoring(home, guest, None)
    note(home, "snapshot", guest, name=snapshot.name, text="restored")


def _state(home: Home, guest: str, kept: Kept) -> saved.Saved:
    """The saved state that a snapshot with memory amounts to, on the disks as they are now."""
    facts = kept.inside.get("saved") or {}
    return saved.Saved(
        at=time.time(), size=kept.snapshot.memory, qemu=str(facts.get("qemu", "")),
        program=str(facts.get("program", "")), processor=str(facts.get("processor", "")),
        disks=saved.stamps(home, guest, list(kept.snapshot.disks)),
    )  # fmt: skip
