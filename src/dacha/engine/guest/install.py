"""Following an installation by events until the guest starts from its own disk.

The disk comes first in the boot order, so an installed guest starts from it by itself. A small process does the rest.
It ejects the medium when the guest restarts with a bootable disk. If the guest powered off instead, it starts the
guest again. If the medium waits for a key, it presses one. It is started with the guest, holds a lock, and exits with
the installation.
"""

from __future__ import annotations

import subprocess
import sys

from dacha.engine.guest.passwords import forget_plain
from dacha.engine.home import Home
from dacha.engine.record import Record
from dacha.engine.workspace import Workspace
from dacha.formats.disk.boot_sectors import boot_sectors
from dacha.hypervisor.images.chain import as_image
from dacha.hypervisor.images.images import first_sectors


def pending(ws: Workspace, name: str, record: Record) -> bool:
    """True while the guest's installation is not complete."""
    guest = ws.lab.guests.get(name)
    return guest is not None and guest.install is not None and record.installed != guest.install


def follow(ws: Workspace, name: str) -> None:
    """Start the process that follows the guest's installation; it exits at once if there already is one."""
    with (ws.home.guest(name) / "install.log").open("ab") as log:
        subprocess.Popen(
            [sys.executable, "-P", "-m", "dacha.engine.apply.follow_install", str(ws.path), name],
            stdin=subprocess.DEVNULL,
            stdout=log,
            stderr=log,
            start_new_session=True,
        )


def disk_bootable(home: Home, name: str) -> bool:
    """True if the guest's first disk has a boot loader."""
    machine = home.read(name).machine
    inside = machine["disks"] if machine else []
    path = home.disk(name, inside[0]["name"] if inside else "0")
    return path.is_file() and boot_sectors(first_sectors(as_image(path))).bootable


# As far as the marks of partition tables, file systems and containers reach: the last begins 64 KiB into the disk.
_MARKS = 256


def disk_written(home: Home, name: str, disk: str) -> bool:
    """True if a guest's disk may contain data: anything in its first sectors, or unreadable ones."""
    path = home.disk(name, disk)
    if not path.is_file():
        return False
    begin = first_sectors(as_image(path), _MARKS)
    return not begin or any(begin)


def finish(home: Home, name: str, medium: str) -> None:
    """Record that the guest was installed from `medium`."""
    record = home.read(name)
    record.installing, record.installed = None, medium
    if record.machine:
        for n in drives_of_installer(record, medium):
            record.machine["drives"][n] = None
    home.write(name, record)
    import shutil

    # The installer's files contain secrets, and are not needed any more.
    forget_plain(home, name)
    shutil.rmtree(home.guest(name) / "answers", ignore_errors=True)


def drives_of_installer(record: Record, medium: str) -> list[int]:
    """The drives that are emptied at the end: that of the medium, and that of the answers."""
    drives = record.machine["drives"] if record.machine else []
    first = -1 if medium == "network" else 0
    return [n for n, path in enumerate(drives) if n == first or (path or "").endswith("/answers/answers.iso")]
