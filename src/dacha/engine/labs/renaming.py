"""Rename a lab: its disks, host keys, hardware addresses and subnets are kept.

The lab file is written first, then the lab's folder is renamed. A command that was killed between the two leaves a file
whose name differs from its folder's, and the same command again completes it.
"""

from __future__ import annotations

import os
import shutil
from collections.abc import Iterator
from functools import partial
from pathlib import Path

from dacha.core.errors import BadValue, DachaError, UsageError
from dacha.core.lab import fields
from dacha.core.lab.names import hardware_address
from dacha.core.lab.table.read import read_lab
from dacha.core.lab.text.edits import Edit, Set
from dacha.core.lab.text.text_edits import edit_text
from dacha.engine.caretaker import process, unit
from dacha.engine.caretaker.unit_file import installed
from dacha.engine.guest import prepare
from dacha.engine.home import Home
from dacha.engine.labs.kept_labs import KeptLab
from dacha.engine.labs.removal import Report, leave_host
from dacha.engine.people.lab_key import pairs, uses
from dacha.engine.profiles import profiles
from dacha.engine.workspace import Workspace, load, read_text, write_text
from dacha.host.accounts import owner_moved
from dacha.host.files import editing, refused, replace_file
from dacha.host.network import addresses


def rename_lab(lab: KeptLab, new: str, report: Report) -> Workspace:
    """Rename a lab whose guests are off, in its file and in the state folder; returns the workspace afterwards. Raises
    UsageError, LabError, HostError, BusyError; then nothing was changed, or the same command completes it."""
    home, file = lab.home, lab.file
    if file is None or not file.is_file():
        raise UsageError(
            f"the lab file of {home.lab} does not exist",
            where=str(file or "it was never applied"),
            remedy=f"specify its file first: dacha lab move {home.lab} --file FILE",
        )
    with home.lock("lab rename", file), editing(file):
        ws = load(str(file))
        _refuse(lab, ws, new)
        at_boot = installed(home.lab)
        leave_host(lab, report)
        keys = _renamed_keys(ws, home.lab, new)
        for before, after in keys.items():
            _copy(before, after)
        before_text, ws = ws.text, _written(ws, home.lab, new, keys)
        applied = _applied(home, before_text, ws.text, new, keys)
        _carry(home, new)
        ws = load(str(file))
        if applied is not None:
            replace_file(ws.home.applied, applied)
        lan = addresses.lan_address()
        prepare.write_known_hosts(ws, ws.plan, [lan] if lan else [])
        for before in keys:
            before.unlink(missing_ok=True)
            before.with_suffix("").unlink(missing_ok=True)
    if at_boot:
        unit.install(ws, None, partial(process.stop, ws.home))
        report("this host", f"the caretaker of lab {new} starts at boot")
    return ws


def _refuse(lab: KeptLab, ws: Workspace, new: str) -> None:
    old = lab.home.lab
    try:
        fields.name(new)
    except BadValue as e:
        raise UsageError(f"{e.what} of a lab", remedy=e.remedy) from None
    if new == old:
        raise UsageError(f"the lab is already named {new}", remedy="choose another name")
    if ws.lab.name not in (old, new):
        raise UsageError(f"{ws.path} describes a lab {ws.lab.name}", remedy=f"dacha lab rename {old} {ws.lab.name}")
    other = Home(new)
    if other.guests() or other.away:
        raise UsageError(
            f"a lab {new} already exists", where=str(other.folder), remedy="choose another name, or see: dacha lab list"
        )
    on = [g.name for g in lab.guests if g.on]
    if on:
        back = "" if ws.lab.name == old else f'in {ws.path}, write name = "{old}" again\n'
        raise UsageError(
            f"{', '.join(on)} of {old} {'is' if len(on) == 1 else 'are'} on",
            remedy=f"{back}dacha stop --all --lab {ws.path}",
        )


def _renamed_keys(ws: Workspace, old: str, new: str) -> dict[Path, Path]:
    """The lab's own public keys, whose file names contain its name, each with its new name."""
    named = Workspace(ws.path, ws.text, ws.lab._replace(name=old), [])
    return {path: path.with_name(new + path.name.removeprefix(old)) for path in pairs(named).values()}


def _copy(before: Path, after: Path) -> None:
    """Copy a file to another name, with the same permissions. Raises HostError."""
    if not before.exists() or after.exists():
        return
    try:
        replace_file(after, before.read_text(), mode=before.stat().st_mode & 0o777)
    except OSError as e:
        raise refused(after, e) from e


def _written(ws: Workspace, old: str, new: str, keys: dict[Path, Path]) -> Workspace:
    """The lab file with the new name, and with values that depended on the old one written explicitly."""
    before = ws if ws.lab.name == old else Workspace(ws.path, ws.text, ws.lab._replace(name=old), [])
    edits = list(_edits(before, new, keys))
    text = edit_text(ws.text, edits)
    if text != ws.text:
        write_text(ws.path, text)
    for public, after in keys.items():
        _copy(public.with_suffix(""), after.with_suffix(""))
    return load(str(ws.path))


def _edits(ws: Workspace, new: str, keys: dict[Path, Path]) -> Iterator[Edit]:
    yield Set(("lab", "name"), new)
    # Guests, and DHCP servers, know them by these values; a lab with another name would derive others.
    for guest in ws.lab.guests.values():
        for n, adapter in enumerate(guest.adapters):
            if adapter.hardware_address is None:
                yield Set(("guest", guest.name, "adapter", n, "hardware-address"),
                          hardware_address(ws.lab.name, guest.name, n))  # fmt: skip
    for network in ws.lab.networks.values():
        planned = ws.plan.networks[network.name]
        if network.kind != "bridge" and network.subnet is None and planned.subnet:
            yield Set(("network", network.name, "subnet"), str(planned.subnet))
        if network.managed and network.subnet6 is None and planned.subnet6:
            yield Set(("network", network.name, "subnet6"), str(planned.subnet6))
    for where, written in uses(ws).items():
        moved = [str(Path(k).with_name(keys[p].name)) if (p := ws.resolve(k)) in keys else k for k in written]
        yield Set(where, moved)


def _applied(home: Home, before: str, after: str, new: str, keys: dict[Path, Path]) -> str | None:
    """Return the lab file as it was last applied, with the new name; None if it was never applied. Changes that wait
    for an apply still wait."""
    try:
        text = read_text(home.applied)
        lab = read_lab(text, profiles()).lab
        if text == before or lab is None:
            return after
        path = home.owner() or home.applied
        return edit_text(text, list(_edits(Workspace(path, text, lab._replace(name=home.lab), []), new, keys)))
    except DachaError:
        return None


def _carry(before: Home, new: str) -> None:
    """The lab's folder under its new name; the folder of an empty lab with that name is deleted."""
    after = before.folder.with_name(new)
    shutil.rmtree(Home(new).folder, ignore_errors=True)
    try:
        os.rename(before.folder, after)
        if before.place.is_symlink():
            before.place.unlink()
            Home(new).place.symlink_to(after)
    except OSError as e:
        raise refused(after, e, "rename") from e
    owner_moved(before.folder, after)
    shutil.rmtree(before.run_folder, ignore_errors=True)
