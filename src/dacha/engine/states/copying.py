"""Copy a guest: a new one with the contents of its disks, and an identity of its own.

A file `copying` in the new guest's folder exists until the lab file has the new guest: what a killed command left is
deleted by the next one.
"""

from __future__ import annotations

import contextlib
import fcntl
import os
import shutil
import tempfile
from collections.abc import Callable, Iterator, Mapping
from copy import deepcopy
from functools import partial
from pathlib import Path
from typing import Any

import tomli

from dacha.core.apply.observed import ON, PAUSED
from dacha.core.archive.marks import NO_MARKS, Marks
from dacha.core.errors import DachaError, UsageError
from dacha.core.lab.model import Guest
from dacha.core.lab.text.edits import Set
from dacha.core.named import NamedTuple
from dacha.engine.disks.disks import attached
from dacha.engine.disks.storages import storage_folder
from dacha.engine.guest.observe import observe_guest
from dacha.engine.guest_files import ARCHIVE
from dacha.engine.home import Home
from dacha.engine.lab.edit import edit_lab
from dacha.engine.lab.named import guest_named, refuse_new_name
from dacha.engine.states import guard
from dacha.engine.states.beside import read
from dacha.engine.workspace import Workspace
from dacha.host import folders
from dacha.host.files import held, replace_file
from dacha.hypervisor.command_line import QMP
from dacha.hypervisor.firmware import VARIABLES
from dacha.hypervisor.images import chain, copying
from dacha.hypervisor.live import copies
from dacha.hypervisor.monitor import agent
from dacha.hypervisor.monitor.qmp import Qmp

Progress = Callable[[str, float], None]
# Keys whose values only one guest can have, by their table.
_OWN_ADAPTER, _OWN_DOOR = ("address", "address6", "hardware-address"), ("port", "outside-port")


class Copied(NamedTuple):
    """A new guest: the workspace with it; the bytes that its disks take on this host, by disk; whether the original's
    file systems were frozen (None if it was not running); the keys that were left out of the new guest's table."""

    ws: Workspace
    disks: dict[str, int]
    frozen: bool | None
    omitted: tuple[str, ...]


def copy_guest(named: str | None, ws: Workspace, source: str, new: str, *, address: str | None, whole: bool,
               progress: Progress) -> Copied:  # fmt: skip
    """Copy a guest that runs or not. The lab's lock must be held. Raises UsageError, LabError, DachaError; then nothing
    is left of the copy."""
    home, guest = ws.home, guest_named(ws, source)
    settle(ws)
    home.refuse_if_archived(source)
    refuse_new_name(ws, new)
    there = dict(home.disks(source))
    disks = {d.name: there[d.name] for d in guest.disks if d.name in there}
    if missing := [d.name for d in guest.disks if d.name not in there]:
        raise UsageError(
            f"disk {missing[0]} of {source} does not exist yet", remedy=f"start it first: dacha start {source}"
        )
    home.make_guest(new)
    marker(home, new).write_text(source)
    try:
        _link_to_storages(ws, guest, new)
        frozen = _copy_disks(home, source, new, disks, whole=whole, progress=progress)
        _remember(home, source, new)
        table, omitted = _table(ws, guest, address)
        ws = edit_lab(named, lambda before: [Set(("guest", new), table)])
    except BaseException:
        end_live(home, source)
        _forget(home, new)
        raise
    marker(home, new).unlink()
    taken = {name: home.disk(new, name).stat().st_blocks * 512 for name in disks}
    return Copied(ws, taken, frozen, omitted)


def _link_to_storages(ws: Workspace, guest: Guest, new: str) -> None:
    """Let the new guest's disks lead to the storages that the original's are in: its table names them, too."""
    for disk in guest.disks:
        if disk.storage in ws.lab.storages:
            folder = folders.make_private(storage_folder(ws, disk))
            ws.home.disk(new, disk.name).symlink_to(folder / f"{new}.{disk.name}.{os.urandom(4).hex()}.qcow2")


def _file(home: Home, new: str, disk: str) -> Path:
    """The file of a new disk: where its link leads, or the one in the guest's own folder."""
    link = home.disk(new, disk)
    return link.readlink() if link.is_symlink() else link


def _forget(home: Home, new: str) -> None:
    """Delete what was copied of a guest that is not in the lab file, in storages, too."""
    for link in home.guest(new).glob("disk-*.qcow2"):
        if link.is_symlink():
            target = link.readlink()
            for left in (target, *target.parent.glob(f".{target.name}.*.part")):
                left.unlink(missing_ok=True)
    home.forget_guest(new)


def marker(home: Home, new: str) -> Path:
    """The file that exists while a guest is being copied; it has the original's name."""
    return home.guest(new) / "copying"


def _copy_disks(
    home: Home, source: str, new: str, disks: dict[str, Path], *, whole: bool, progress: Progress
) -> bool | None:
    """Copy the disks; whether the guest's file systems were frozen at that moment (None if it was not running)."""
    seen = observe_guest(home, source, forwards=False)
    frozen, told = None, partial(progress, f"copying {source}")
    inside = attached(home, source)
    live = {n: (path, _file(home, new, n)) for n, path in disks.items() if n in inside}
    if live:
        frozen = copy_live(home, source, live, whole=whole, frozen_if=seen.state == ON, progress=told)
    for name, path in disks.items():
        if name not in live:
            copying.copy_off(path, _file(home, new, name), whole=whole, progress=told)
        chain.note(home.disk(new, name))
    return frozen if seen.state in (ON, PAUSED) else None


def copy_live(
    home: Home, guest: str, disks: dict[str, tuple[Path, Path]], *, whole: bool, frozen_if: bool,
    progress: Callable[[float], None],
) -> bool:  # fmt: skip
    """Copy disks of a running guest, by name with their images and the new files, all as they are at one moment. Its
    agent freezes its file systems for that moment, if it may (`frozen_if`) and responds: whether it did. Raises
    DachaError; then the copies are not complete."""
    try:
        frozen = begin_live(home, guest, disks, whole=whole, frozen_if=frozen_if)
        copies.finish(home.run(guest), progress)
    except BaseException:
        end_live(home, guest)
        raise
    return frozen


def begin_live(
    home: Home, guest: str, disks: dict[str, tuple[Path, Path]], *, whole: bool, frozen_if: bool,
    marks: Marks = NO_MARKS,
) -> bool:  # fmt: skip
    """Begin to copy disks as `copy_live` does. Raises DachaError."""
    run = home.run(guest)
    with Qmp(run / QMP, timeout_s=60.0) as qmp:
        copies.end(qmp)
        able = frozen_if and agent.answers(run, guard.AGENT_S)
        try:
            with guard.guarded([run] if able else [], [], guard.FROZEN_S):
                frozen = able and guard.freeze(run)
                try:
                    copies.begin(qmp, disks, whole=whole, marks=marks)
                finally:
                    if able:
                        guard.thaw(run)
        except BaseException:
            with contextlib.suppress(DachaError, OSError):
                copies.end(qmp)
            raise
    return frozen


def _remember(home: Home, source: str, new: str) -> None:
    """What is true of the copy, because its disks have it."""
    had, record = home.read(source), home.read(new)
    record.installed, record.buses = had.installed, dict(had.buses)
    home.write(new, record)
    for name in VARIABLES:
        if (data := read(home.guest(source) / name)) is not None:
            replace_file(home.guest(new) / name, data, 0o600)


def _table(ws: Workspace, guest: Guest, address: str | None) -> tuple[dict[str, Any], tuple[str, ...]]:
    """The new guest's table in the lab file: the original's, without what only one guest can have."""
    table = own_table(written_table(ws, guest.name))
    adapters = table.get("adapter", [])
    if address:
        (adapters[0] if isinstance(adapters, list) else adapters)["address"] = address
    omitted = [key for key in ("screen", "usb") if table.pop(key, None) is not None]
    return table, tuple(omitted)


def written_table(ws: Workspace, name: str) -> dict[str, Any]:
    """A guest's table of the lab file, with the board that its system knows."""
    table: dict[str, Any] = tomli.loads(ws.text)["guest"][name]
    if board := ws.home.read(name).machine_type:
        table.setdefault("machine-type", board)
    return table


def own_table(written: Mapping[str, Any], *, keep: bool = False) -> dict[str, Any]:
    """A guest's table of a lab file, without the addresses and ports that only one guest can have, unless it is to
    `keep` them."""
    table: dict[str, Any] = deepcopy(dict(written))
    if keep:
        return table
    adapters = table.get("adapter", [])
    for adapter in adapters if isinstance(adapters, list) else [adapters]:
        for key in _OWN_ADAPTER:
            adapter.pop(key, None)
    for door in table.get("door", {}).values():
        for key in _OWN_DOOR:
            door.pop(key, None)
    return table


def settle(ws: Workspace) -> None:
    """Delete what a killed command left of a copy that the lab file does not have. The lab's lock must be held."""
    home = ws.home
    for name in home.guests():
        for left in home.guest(name).glob(f"{ARCHIVE}*"):
            if held(left):
                continue  # a command is writing it
            end_live(home, name)
            shutil.rmtree(left, ignore_errors=True)
        if name not in ws.lab.guests and home.guest(name).is_dir() and not any(home.guest(name).iterdir()):
            home.forget_guest(name)  # a command was killed right after it created the folder
            continue
        if not marker(home, name).is_file():
            continue
        if name in ws.lab.guests:
            marker(home, name).unlink()
            continue
        with contextlib.suppress(OSError):
            end_live(home, marker(home, name).read_text().strip())
        _forget(home, name)


@contextlib.contextmanager
def working_folder(home: Home, name: str) -> Iterator[Path]:
    """A folder for copies of a guest's disks, locked as long as it is in use."""
    folder = Path(tempfile.mkdtemp(prefix=ARCHIVE, dir=home.guest(name)))
    fd = os.open(folder, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
    try:
        fcntl.flock(fd, fcntl.LOCK_EX)
        yield folder
    finally:
        shutil.rmtree(folder, ignore_errors=True)
        os.close(fd)


def end_live(home: Home, source: str) -> None:
    """End copies of a guest's disks, complete or not, as far as possible."""
    with contextlib.suppress(DachaError, OSError):
        if home.is_running(source):
            with Qmp(home.run(source) / QMP, timeout_s=30.0) as qmp:
                copies.end(qmp)
