"""Rename a guest: its disks, keys and hardware addresses are kept.

The lab file and the guest's folder are renamed together; the operation is recorded first, so that a command killed
between the two leaves no guest with empty disks.
"""

from __future__ import annotations

import os

from dacha.core.errors import LabError, UsageError
from dacha.core.findings import errors
from dacha.core.lab.names import hardware_address
from dacha.core.lab.table.read import read_lab
from dacha.core.lab.text.edits import Edit, Set
from dacha.core.lab.text.text_edits import edit_text, rename_text
from dacha.core.people.accounts import edits_without
from dacha.engine.home import Home
from dacha.engine.lab.named import guest_named, refuse_new_name
from dacha.engine.profiles import profiles
from dacha.engine.workspace import Workspace, lab_error, load, write_text
from dacha.host.accounts import owner_moved
from dacha.host.files import editing, refused
from dacha.host.records import read_record, write_record

VERSION = 1


def rename(named: str | None, old: str, new: str) -> Workspace:
    """Rename a guest that is off; returns the workspace afterwards. Raises UsageError, LabError, HostError,
    BusyError."""
    ws = load(named)
    with ws.home.lock("guest rename", ws.path), editing(ws.path):
        ws = load(named)
        settle(ws)
        _refuse(ws, old, new)
        text = rename_text(ws.text, ("guest", old), new)
        # DHCP servers, and the guest's own system, know it by its hardware addresses: they are kept.
        edits: list[Edit] = [
            Set(("guest", new, "adapter", n, "hardware-address"), hardware_address(ws.lab.name, old, n))
            for n, adapter in enumerate(ws.lab.guests[old].adapters)
            if adapter.hardware_address is None
        ]
        text = edit_text(text, [*edits, *edits_without(ws.lab, old, now=new)])
        reading = read_lab(text, profiles())
        if reading.lab is None or reading.findings:
            raise lab_error(ws.path, text, reading.findings)
        after = Workspace(ws.path, text, reading.lab, reading.findings)
        wrong = errors(after.findings())
        if wrong and not errors(ws.findings()):
            raise LabError(lab_error(ws.path, text, wrong).what, findings=wrong, unchanged=ws.path.name)
        write_record(ws.home.renaming, VERSION, {"old": old, "new": new})
        _move(ws.home, old, new)
        write_text(ws.path, text)
        ws.home.renaming.unlink()
    return after


def settle(ws: Workspace) -> None:
    """Complete an interrupted renaming: the folder gets the name in the lab file. The lab's lock must be held. Raises
    HostError."""
    try:
        noted = read_record(ws.home.renaming, VERSION)
        old, new = str(noted["old"]), str(noted["new"])
    except KeyError:
        return
    if new in ws.lab.guests and old not in ws.lab.guests:
        _move(ws.home, old, new)
    elif old in ws.lab.guests and new not in ws.lab.guests:
        _move(ws.home, new, old)
    ws.home.renaming.unlink(missing_ok=True)


def _refuse(ws: Workspace, old: str, new: str) -> None:
    guest_named(ws, old)
    refuse_new_name(ws, new)
    if ws.home.is_running(old):
        raise UsageError(f"{old} is on, and uses its name", remedy=f"dacha stop {old}")


def _move(home: Home, old: str, new: str) -> None:
    """Move a guest's folder to its new name, if that was not done yet, and it exists."""
    before, after = home.guest(old), home.guest(new)
    if not before.is_dir() or after.exists():
        return
    try:
        os.rename(before, after)
    except OSError as e:
        raise refused(after, e, "rename") from e
    owner_moved(before, after)
