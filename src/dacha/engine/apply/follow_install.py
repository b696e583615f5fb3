"""The process that follows one installation to its end; `python -m` runs it, `install.follow` starts it."""

from __future__ import annotations

import contextlib
import sys
import time

from dacha.core.errors import BusyError, DachaError
from dacha.engine.apply.apply import apply
from dacha.engine.guest.install import disk_bootable, drives_of_installer, finish, pending
from dacha.engine.workspace import Workspace, load
from dacha.host.files import locked
from dacha.hypervisor.command_line import EVENTS
from dacha.hypervisor.live import removable
from dacha.hypervisor.monitor.qmp import Qmp

# No installation takes longer; a follower without an event gives up then.
LONGEST_S = 8 * 3600.0
# When an installer's boot loader waits for a key, and how often one is pressed (seconds).
KEY_FOR_S, KEY_EVERY_S = 20.0, 0.7


def run(lab_file: str, name: str) -> None:
    """Follow one installation to its end: the main function of the process that `follow` starts."""
    ws = load(lab_file)
    with contextlib.suppress(BusyError), locked(ws.home.install_lock(name), "dacha apply", 0.0):
        deadline = time.monotonic() + LONGEST_S
        while time.monotonic() < deadline and pending(ws, name, ws.home.read(name)):
            if not ws.home.is_running(name):
                _ended(ws, name)
                return
            with contextlib.suppress(OSError, DachaError):
                _live(ws, name, deadline)
            time.sleep(0.2)
            ws = load(lab_file)


def _live(ws: Workspace, name: str, deadline: float) -> None:
    """Follow the guest's process until it restarts from its disk, or exits."""
    medium = ws.lab.guests[name].install
    with Qmp(ws.home.run(name) / EVENTS) as qmp:
        while time.monotonic() < deadline and medium:
            if _asks_for_key(ws, medium) and not disk_bootable(ws.home, name):
                _press_keys(qmp)
            event = qmp.wait_event({"RESET", "SHUTDOWN"}, 60.0)
            if not ws.home.is_running(name):
                return
            if event and event["event"] == "RESET" and disk_bootable(ws.home, name):
                # The restart means that the installer has released its medium, so its lock of the tray can be ignored.
                for drive in drives_of_installer(ws.home.read(name), medium):
                    removable.change(qmp, drive, None, force=True)
                finish(ws.home, name, medium)
                return


def _asks_for_key(ws: Workspace, medium: str) -> bool:
    from dacha.engine.media.media_store import Store

    kept = Store(ws.lab).find(medium)
    return bool(kept and kept.facts.get("press_key"))


def _press_keys(qmp: Qmp) -> None:
    until = time.monotonic() + KEY_FOR_S
    while time.monotonic() < until:
        qmp.execute("send-key", {"keys": [{"type": "qcode", "data": "spc"}]})
        time.sleep(KEY_EVERY_S)


def _ended(ws: Workspace, name: str) -> None:
    """The guest's process has exited: if that completed the installation, start the guest again."""
    record = ws.home.read(name)
    medium = ws.lab.guests[name].install
    # Stopped on purpose, or exited before its disk was bootable: the next start boots the medium again.
    if record.stopped_on_purpose or medium is None or not disk_bootable(ws.home, name):
        return
    finish(ws.home, name, medium)
    with ws.home.lock("apply", ws.path):
        apply(ws, lambda subject, text, took: None, only={name})


if __name__ == "__main__":
    run(sys.argv[1], sys.argv[2])
