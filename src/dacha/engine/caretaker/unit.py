"""At the boot of this host, its service manager starts the caretaker, which starts guests."""

from __future__ import annotations

import os
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

from dacha.core.errors import HostError
from dacha.engine.caretaker.unit_file import installed, unit_folder, unit_name, unit_path
from dacha.engine.workspace import Workspace
from dacha.formats.systemd_unit import service
from dacha.host.accounts import CARETAKER
from dacha.host.facts import program
from dacha.host.files import refused, replace_file

# What the service itself may take to stop (seconds).
SPARE_S = 60.0


def unit_text(ws: Workspace) -> str:
    """The unit that keeps the lab's caretaker running."""
    kept = {
        name: os.environ[name]
        for name in ("DACHA_STATE", "DACHA_RUN", "DACHA_SHARED", "DACHA_USERS")
        if os.environ.get(name)
    }
    start, end = (
        [sys.executable, "-P", "-m", "dacha", "caretaker", *words, "--lab", str(ws.path)]
        for words in (("run",), ("stop", "--with-host"))
    )
    system = os.geteuid() == 0
    said = f"Dacha's caretaker of the lab {ws.lab.name}"
    return service(said, start, kept, system=system, capabilities=CARETAKER, at_stop=end, stop_s=stop_seconds(ws))


def stop_seconds(ws: Workspace) -> float:
    """How long all guests may take to stop, one group of the start order after another."""
    groups: dict[int, float] = {}
    for guest in ws.lab.guests.values():
        groups[guest.start.order] = max(groups.get(guest.start.order, 0.0), guest.stop_after_s)
    return SPARE_S + sum(groups.values())


def install(ws: Workspace, folder: Path | None, make_room: Callable[[], object]) -> Path:
    """Write the unit, and let the service manager start it now and at every boot; with `folder` only write it there.
    `make_room` stops a caretaker that runs already.
    Raises HostError if this host has another service manager."""
    if folder is None and not _managed():
        raise HostError(
            "this host does not use systemd",
            remedy="start this command with your service manager: "
            f"{sys.executable} -m dacha caretaker run --lab {ws.path}",
        )
    path = (folder or unit_folder()) / unit_name(ws.lab.name)
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
    except OSError as e:
        raise refused(path, e) from e
    replace_file(path, unit_text(ws))
    if folder is None:
        _systemctl("daemon-reload")
        # The service could not start beside a caretaker that apply has started.
        make_room()
        _systemctl("enable", "--now", path.name)
    return path


def start(lab: str) -> bool:
    """Let the service manager start the lab's caretaker; False if it does not manage it. Raises HostError."""
    if not installed(lab) or not _managed():
        return False
    _systemctl("start", unit_name(lab))
    return True


def renew(ws: Workspace) -> None:
    """Write the unit again if it is not as this version would write it: it may start another installation of Dacha.
    Raises HostError."""
    if installed(ws.lab.name) and _managed() and not current(ws):
        replace_file(unit_path(ws.lab.name), unit_text(ws))
        _systemctl("daemon-reload")


def stop(lab: str) -> bool:
    """Let the service manager stop the lab's caretaker, which it would start again after any other end; False if it
    does not manage it. Raises HostError."""
    if not installed(lab) or not _managed():
        return False
    _systemctl("stop", unit_name(lab))
    return True


def remove(ws: Workspace, folder: Path | None) -> Path | None:
    """Remove the unit; None if there is none. The caretaker stops, guests and doors are not affected."""
    path = (folder or unit_folder()) / unit_name(ws.lab.name)
    if not path.exists():
        return None
    if folder is None and _managed():
        _systemctl("disable", "--now", path.name)
    path.unlink()
    if folder is None and _managed():
        _systemctl("daemon-reload")
    return path


def current(ws: Workspace) -> bool:
    """True if the installed unit is what `install` would write now."""
    try:
        return unit_path(ws.lab.name).read_text() == unit_text(ws)
    except OSError:
        return False


def _managed() -> bool:
    return Path("/run/systemd/system").is_dir() and program("systemctl") is not None


def _systemctl(*words: str) -> None:
    command = [program("systemctl") or "systemctl", *([] if os.geteuid() == 0 else ["--user"]), *words]
    done = subprocess.run(command, capture_output=True, text=True, check=False)
    if done.returncode:
        raise HostError(f"systemctl {' '.join(words)} failed", why=done.stderr.strip())
