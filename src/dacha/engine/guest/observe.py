"""The observed state of each guest: process, disks, keys and open forwards."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from dacha.core.apply.faults import FAULTS
from dacha.core.apply.observed import HUNG, ON, PAUSED, SAVED, ObservedGuest
from dacha.core.errors import DachaError
from dacha.core.plan.doors import Forward
from dacha.engine.home import Home
from dacha.formats.disk.qcow2 import size_of
from dacha.host.files import held
from dacha.host.processes import started_at
from dacha.hypervisor import process
from dacha.hypervisor.command_line import WATCH

# QMP run states in which the guest's virtual CPUs are stopped, on purpose or by a fault.
_HELD = ("paused", "prelaunch", "suspended", "watchdog", "inmigrate", "finish-migrate", "postmigrate", *FAULTS)


# How many guests are queried at the same time.
AT_ONCE = 8


def full_name(home: Home, guest: str) -> str:
    """The name that a guest's process reports."""
    return f"{guest}.{home.lab}"


def observe_guest(home: Home, name: str, *, forwards: bool = True) -> ObservedGuest:
    """The present state of one guest. With `forwards`, its process is queried for its open forwards."""
    folder = home.guest(name)
    if not folder.is_dir():
        return ObservedGuest()
    record = home.read(name)
    found = process.find(home.run(name), home.process_lock(name), full_name(home, name), record.process)
    made = ObservedGuest(
        disks=frozenset(_disks(home, name)),
        host_key=(folder / "host_key.pub").is_file() and (folder / "host_key").is_file(),
        seed=record.seed if (folder / "seed.iso").is_file() else None,
        stopped_on_purpose=record.stopped_on_purpose,
        installing=record.installing,
        deleting=tuple(record.delete_disks),
        keyed=record.keyed,
        own_accounts=tuple(record.own_accounts),
        unsure=record.unsure,
        inside=record.inside,
    )
    if found is None:
        return made._replace(state=SAVED, machine=record.machine) if home.saved_note(name).is_file() else made
    state = HUNG if found.status is None else PAUSED if found.status in _HELD else ON
    opened: frozenset[Forward] | None = None
    if forwards and found.status is not None:
        from dacha.hypervisor.live.user_network import forwards as open_forwards
        from dacha.hypervisor.monitor.qmp import Qmp

        try:
            with Qmp(home.run(name) / WATCH) as qmp:
                opened = open_forwards(qmp)
        except (OSError, DachaError):
            state = HUNG
    return made._replace(
        state=state,
        fault=found.status if found.status in FAULTS else "",
        pid=found.process.pid if found.process else None,
        since=started_at(found.process) if found.process else None,
        forwards=opened,
        machine=record.machine,
        tpm_lost=bool(record.machine and record.machine.get("tpm")) and not held(home.tpm(name) / "process.lock"),
        gate_lost=record.asks and home.gate_lock(name).exists() and not held(home.gate_lock(name)),
    )


def _disks(home: Home, name: str) -> Iterator[tuple[str, int]]:
    """Each existing disk with its size for the guest: in bytes, from the image's header."""
    for disk, path in home.disks(name):
        try:
            with path.open("rb") as f:
                head = f.read(32)
        except OSError:
            continue
        yield disk, size_of(head)


def observe(home: Home, names: Iterable[str], *, forwards: bool = True) -> dict[str, ObservedGuest]:
    """Every selected guest, and every other with files here. Running ones are queried in parallel: each that does not
    respond takes a second."""
    every = list(dict.fromkeys([*names, *home.guests()]))
    on = [name for name in every if home.is_running(name)]
    if len(on) < 3:
        return {name: observe_guest(home, name, forwards=forwards) for name in every}
    from dacha.engine.side_by_side import side_by_side

    answers = side_by_side(lambda name: observe_guest(home, name, forwards=forwards), on, AT_ONCE)
    asked = dict(zip(on, answers, strict=True))
    return {name: asked.get(name) or observe_guest(home, name, forwards=forwards) for name in every}
