"""Start guests: the data of each process is recorded before it runs, and confirmed afterwards."""

from __future__ import annotations

import contextlib
import os
import subprocess
import sys
import time
from collections.abc import Iterable, Iterator
from functools import partial
from pathlib import Path

from dacha.core.apply.changes import StartGuest
from dacha.core.apply.machine import Machine
from dacha.core.errors import DachaError, HostError
from dacha.core.units import MIB
from dacha.engine.console import CONSOLE_START
from dacha.engine.guest import answers, install
from dacha.engine.guest.machine_type import resolved
from dacha.engine.guest.observe import full_name
from dacha.engine.log.ends import note_ends
from dacha.engine.network import gate
from dacha.engine.power.continuing import continue_saved, forwards_of
from dacha.engine.power.duplicates import duplicates
from dacha.engine.power.refused_disk import refused_disk
from dacha.engine.record import Record
from dacha.engine.screen import password as screen_password
from dacha.engine.shares.shared_folders import refuse_danger
from dacha.engine.workspace import Workspace
from dacha.host import cgroup
from dacha.host.accounts import Account, account_for, become, helper, kvm
from dacha.host.facts import program
from dacha.host.files import replace_file
from dacha.host.network.tap import open_tap
from dacha.host.probe.ports import first_free_port
from dacha.hypervisor import firmware, launch, recorder
from dacha.hypervisor.command_line import QMP, Files, command_line
from dacha.hypervisor.fdset import FdSet
from dacha.hypervisor.live import screen
from dacha.hypervisor.monitor.qmp import Qmp


def start_all(
    ws: Workspace, machines: dict[str, Machine], starts: Iterable[StartGuest]
) -> Iterator[tuple[StartGuest, DachaError | None, float]]:
    """Start every guest, then wait for each: they boot in parallel. Yields each with its error and the seconds it
    took."""
    starts = list(starts)
    machines = {c.guest: _continued(ws, machines[c.guest], c.guest) if c.saved else machines[c.guest] for c in starts}
    taken = duplicates(ws, [c.guest for c in starts])
    with _recorder(ws, [c.guest for c in starts if c.guest not in taken]) as consoles:
        yield from _start_each(ws, machines, starts, taken, consoles)


def _start_each(
    ws: Workspace,
    machines: dict[str, Machine],
    starts: list[StartGuest],
    taken: dict[str, HostError],
    consoles: dict[str, int],
) -> Iterator[tuple[StartGuest, DachaError | None, float]]:
    spawned: list[tuple[StartGuest, float, subprocess.Popen[bytes]]] = []
    began = time.monotonic()
    for change in starts:
        if change.guest in taken:
            yield change, taken[change.guest], time.monotonic() - began
            continue
        began = time.monotonic()
        try:
            child = _spawn(ws, machines[change.guest], change, consoles[change.guest])
            spawned.append((change, began, child))
        except DachaError as e:
            _not_started(ws, machines[change.guest], change.guest)
            yield change, e, time.monotonic() - began
    # Each process has its own pipe end by now: a recorder exits with the last of them.
    for fd in consoles.values():
        os.close(fd)
    consoles.clear()
    for change, began, child in spawned:
        try:
            _confirm(ws, change, child)
            yield change, None, time.monotonic() - began
        except DachaError as e:
            _not_started(ws, machines[change.guest], change.guest)
            yield change, e, time.monotonic() - began


def _not_started(ws: Workspace, m: Machine, name: str) -> None:
    """Stop what would wait for QEMU forever; a guest that runs after all keeps its processes."""
    if m["tpm"] and not ws.home.is_running(name):
        from dacha.hypervisor.beside import tpm

        tpm.end(ws.home.tpm_note(name))


@contextlib.contextmanager
def _recorder(ws: Workspace, names: list[str]) -> Iterator[dict[str, int]]:
    """The pipes for these guests' consoles, by guest, with the process that records them."""
    pipes: dict[str, int] = {}
    given: list[int] = []
    words = []
    try:
        for name in names:
            flags = os.O_RDWR | os.O_APPEND | os.O_CREAT | os.O_CLOEXEC | os.O_NOFOLLOW
            record = os.open(ws.home.guest(name) / "console.log", flags, 0o600)
            given.append(record)
            reading, pipes[name] = os.pipe()
            given.append(reading)
            words.append(f"{reading}:{record}")
        if words:
            user = helper()
            numbers = [str(n) for n in (user[:2] if user else (os.geteuid(), os.getegid()))]
            subprocess.Popen(
                [sys.executable, "-I", "-S", recorder.__file__, *numbers, *words],
                stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
                start_new_session=True, pass_fds=given, cwd="/",
            )  # fmt: skip
        yield pipes
    finally:
        for fd in (*given, *pipes.values()):
            os.close(fd)


def _continued(ws: Workspace, wanted: Machine, name: str) -> Machine:
    """The machine of a guest that continues from its saved state: the one that was saved. Only its links are those of
    now: the guest does not see them."""
    m = ws.home.read(name).machine or wanted
    for had, now in zip(m["adapters"], wanted["adapters"], strict=False):
        if had["tap"] and now["tap"]:
            had["tap"] = now["tap"]
    return m


def _noted(ws: Workspace, m: Machine, change: StartGuest) -> tuple[Record, Account | None]:
    """Record a start before it happens: if this command is killed now, the next one knows what was started. Returns
    the record, and the user that the guest's process runs as."""
    home, name = ws.home, change.guest
    record = home.read(name)
    note_ends(home, [name], locked=True)
    m["machine_type"] = resolved(m.get("machine_type"))
    record.machine, record.process, record.stopped_on_purpose = m, None, False
    record.pressed = record.forced = None
    record.replugged = False
    record.starts += 1
    record.buses |= {d["name"]: d["bus"] for d in m["disks"]}
    if not change.saved:
        if install.pending(ws, name, record) and record.installing is None:
            record.installing = time.time()
        answers.write(ws, ws.lab.guests[name])
    account = account_for(home.guest(name), groups=kvm())
    record.uid = account.uid if account else None
    home.write(name, record)
    # The offset of this start in its console record: earlier output says nothing about it.
    if not change.saved:
        replace_file(home.guest(name) / CONSOLE_START, str(_size(home.guest(name) / "console.log")))
    return record, account


def _spawn(ws: Workspace, m: Machine, change: StartGuest, console: int) -> subprocess.Popen[bytes]:
    name = change.guest
    home, folder, guest = ws.home, ws.home.guest(name), ws.lab.guests[name]
    record, account = _noted(ws, m, change)
    fdset = FdSet(account)
    taps: dict[int, int] = {}
    try:
        taps = {n: open_tap(a["tap"]) for n, a in enumerate(m["adapters"]) if a["tap"]}
        forwards, _ = forwards_of(ws, m, name, saved=change.saved)
        argv = command_line(
            program("qemu-system-x86_64") or "qemu-system-x86_64",
            m,
            _files(ws, m, name, fdset, taps, console),
            forwards,
        )
        argv[argv.index("-name") + 1] = f"guest={full_name(home, name)}"
        argv += fdset.argv()
        if change.saved:
            argv += ["-S", "-incoming", "defer"]
        low = any(f.port < first_free_port() for f in forwards)
        if account:
            argv = become(account, low_ports=low) + argv
        beside = []
        if m["tpm"]:
            from dacha.hypervisor.beside import tpm

            where = home.tpm(name), home.tpm_note(name), folder / "tpm.log"
            beside.append(partial(tpm.start, home.run(name), *where, account))
        if m["shares"]:
            from dacha.hypervisor.beside import shares

            opened = refuse_danger(ws, guest, m)
            beside.append(partial(shares.start, home.run(name), folder / "share.log", m["shares"], opened, account))
        open_files = (*taps.values(), *fdset.descriptors)
        with gate.opened(ws, m, account, low_ports=low) as asked:
            child = launch.spawn(
                argv, home.run(name), home.process_lock(name), folder / "qemu.log", beside, open_files, account, asked
            )
        record.asks = asked is not None
        home.write(name, record)
        memory, emulated = m["memory_mib"] * MIB, m["accelerator"] != "kvm"
        limits = cgroup.limits_for(memory, m["cpus"], guest.limits, emulated=emulated)
        cgroup.confine(child.pid, home.lab, name, limits)
        return child
    finally:
        fdset.close()
        for fd in taps.values():
            os.close(fd)


def _size(path: Path) -> int:
    try:
        return path.stat().st_size
    except OSError:
        return 0


def _files(ws: Workspace, m: Machine, name: str, fdset: FdSet, taps: dict[int, int], console: int) -> Files:
    """Every file that the guest's process opens, with its name for the process."""
    folder = ws.home.guest(name)
    seed = answers.volume(ws, ws.lab.guests[name]) or (folder / "seed.iso" if m["seed"] else None)
    code = variables = None
    if m["firmware"] == "uefi":
        code, variables = firmware.prepare(folder, m["secure_boot"])
    return Files(
        disks=tuple(fdset.layers(ws.home.disk(name, disk["name"])) for disk in m["disks"]),
        seed=fdset.name(seed) if seed else None,
        console=fdset.pipe(console),
        drives=tuple(fdset.name(Path(d)) if d else None for d in m["drives"]),
        firmware=(fdset.name(code), fdset.name(variables, os.O_RDWR)) if code and variables else None,
        boot=_boot(m, fdset),
        taps=taps,
    )


def _boot(m: Machine, fdset: FdSet) -> tuple[str, str | None] | None:
    if not m["boot"]:
        return None
    initrd = m["boot"]["initrd"]
    return fdset.readable(Path(m["boot"]["kernel"])), fdset.readable(Path(initrd)) if initrd else None


def _confirm(ws: Workspace, change: StartGuest, child: subprocess.Popen[bytes]) -> None:
    home, name = ws.home, change.guest
    try:
        found = launch.confirm(child, name, home.run(name), home.guest(name) / "qemu.log")
    except HostError as e:
        raise refused_disk(ws, name) or e from e
    record = home.read(name)
    record.process = found
    home.write(name, record)
    if change.saved and record.machine:
        continue_saved(ws, name, record.machine, child)
    if install.pending(ws, name, record):
        install.follow(ws, name)
    wanted = ws.lab.guests[name].screen
    if wanted or screen_password.stored(home, name):
        with Qmp(home.run(name) / QMP) as qmp:
            screen_password.set_stored(home, name, qmp)
            if wanted:
                screen.listen(qmp, wanted.origin, wanted.port)
