"""Delete a lab from this host: everything created for it, by name. Its lab file is not deleted."""

from __future__ import annotations

import shutil
from collections.abc import Callable
from pathlib import Path

from dacha.core.errors import HostError, UsageError
from dacha.core.lab.model import Lab
from dacha.engine.caretaker import process as caretaking
from dacha.engine.caretaker import unit
from dacha.engine.home import Home
from dacha.engine.labs.kept_labs import KeptLab
from dacha.engine.network import host_firewall, kernel
from dacha.engine.router import mappings
from dacha.engine.workspace import Workspace

Report = Callable[[str, str], None]


def refuse(lab: KeptLab, *, with_disks: bool) -> None:
    """Refuse to remove a lab with a running guest, or with disks without an explicit request. Raises UsageError."""
    on = [g.name for g in lab.guests if g.on]
    if on:
        raise UsageError(f"{', '.join(on)} of {lab.home.lab} {'is' if len(on) == 1 else 'are'} on",
                         remedy=f"dacha stop --all{_of(lab)}")  # fmt: skip
    disks = [f"{g.name}/{d.name} ({d})" for g in lab.guests for d in g.disks]
    if disks and not with_disks:
        raise UsageError(
            f"disks of {lab.home.lab} would be deleted:\n" + "\n".join(disks),
            remedy=f"to delete them: dacha lab remove {lab.home.lab} --with-disks",
        )


def _of(lab: KeptLab) -> str:
    return f" --lab {lab.file}" if lab.file_there else ""


def remove(lab: KeptLab, report: Report, *, with_disks: bool) -> None:
    """Delete everything that was created for a lab. Raises UsageError, HostError; if a step fails, the same command
    continues from there."""
    home = lab.home
    file = lab.file or home.folder / "lab.toml"
    with home.lock("lab remove", file):
        refuse(lab, with_disks=with_disks)
        leave_host(lab, report)
        for guest in lab.guests:
            for disk in guest.disks:
                _unlink(disk.path)
                report(f"guest {guest.name}", f"disk {disk.name} deleted ({disk})")
            if guest.beside:
                report(f"guest {guest.name}", f"{', '.join(guest.beside)} deleted")
            home.forget_guest(guest.name)
        _clear(home)


def leave_host(lab: KeptLab, report: Report) -> None:
    """Remove what a lab has outside its folder: its unit, caretaker, openings in firewall and router, links and rules.
    The lab's lock must be held. Raises HostError."""
    home = lab.home
    file = lab.file or home.folder / "lab.toml"
    empty = Workspace(file, f'[lab]\nname = "{home.lab}"\n', Lab(home.lab, {}, {}, {}), [])
    if unit.remove(empty, None):
        report("this host", "no longer starts its caretaker at boot")
    if caretaking.stop(home):
        report("caretaker", "stopped")
    host_firewall.shut_behind(empty, host_firewall.noted(empty))
    if mappings.uses_router(empty):
        mappings.ask(empty)
        report("router", "port mappings removed")
    for change in kernel.difference(empty, empty.plan):
        kernel.carry_out(empty, empty.plan, change)
        report("this host", change.done())


def _unlink(path: Path) -> None:
    try:
        path.resolve().unlink(missing_ok=True)  # including one in a storage
        path.unlink(missing_ok=True)
    except OSError as e:
        raise HostError(f"cannot delete {path}", why=e.strerror or str(e)) from e


def _clear(home: Home) -> None:
    if home.place.is_symlink():
        home.place.unlink()
    for folder in (home.run_folder, home.folder):
        try:
            shutil.rmtree(folder)
        except FileNotFoundError:
            continue
        except OSError as e:
            raise HostError(f"cannot remove {folder}", why=e.strerror or str(e)) from e
