"""A guest's QEMU process: found again, stopped, suspended. It outlives every dacha process."""

from __future__ import annotations

import contextlib
import time
from pathlib import Path
from typing import TYPE_CHECKING

from dacha.core.apply.faults import NO_ROOM
from dacha.core.errors import AnswerNo, HostError, PeerError
from dacha.core.named import NamedTuple
from dacha.host.files import held
from dacha.host.processes import Process, alive, identify, kill, wait_gone
from dacha.hypervisor.command_line import QMP, WATCH

if TYPE_CHECKING:
    from dacha.hypervisor.monitor.qmp import Qmp


def force(name: str) -> str:
    """The last resort for a guest that does not stop."""
    return f"power it off: dacha stop {name} --force (unwritten data is lost)"


def _monitor(path: Path, timeout_s: float = 5.0) -> Qmp:
    """A monitor client; imported only if a guest runs."""
    from dacha.hypervisor.monitor.qmp import Qmp

    return Qmp(path, timeout_s)


class Found(NamedTuple):
    """A guest's process as found on the host. `process` is None if it lives but cannot be identified; `status` is QMP's
    run state, None if the monitor does not respond."""

    process: Process | None
    status: str | None


def find(run: Path, lock: Path, name: str, recorded: Process | None) -> Found | None:
    """The guest's process: by its recorded identity, else by the process that listens on its monitor and reports the
    right name. None if it does not run. A process that merely has a recorded id is never used."""
    if not held(lock):
        return None
    known = recorded if recorded and alive(recorded) else None
    deadline = time.monotonic() + 2.0
    while True:
        try:
            with _monitor(run / WATCH, timeout_s=1.0) as qmp:
                if qmp.execute("query-name").get("name") == name and (process := identify(qmp.pid)):
                    return Found(process, qmp.execute("query-status")["status"])
                return Found(known, None)
        except TimeoutError:
            return Found(known, None)  # it listens but does not respond: stopped by a signal, or hung
        except (OSError, PeerError):
            # A process that was started just now has no sockets yet.
            if known or time.monotonic() > deadline or not held(lock):
                return Found(known, None) if held(lock) else None
            time.sleep(0.02)


def press_power(process: Process | None, run: Path, name: str) -> None:
    """Press the guest's ACPI power button. Raises AnswerNo if its monitor does not accept it."""
    why = "QEMU hangs, or its process is stopped"
    try:
        with _monitor(run / QMP) as qmp:
            if qmp.execute("query-status")["status"] in ("paused", NO_ROOM):
                qmp.execute("cont")  # a suspended system does not notice the button
            qmp.execute("system_powerdown")
            return
    except TimeoutError:
        pass
    except (OSError, PeerError) as e:
        if process and not alive(process):
            return
        why = str(e)
    raise AnswerNo(f"{name} does not stop: its monitor does not respond", why=why, remedy=force(name))


def await_end(process: Process, name: str, timeout_s: float, pressed_s: float) -> None:
    """Wait up to `timeout_s` for a process whose power button was pressed `pressed_s` ago. Raises AnswerNo."""
    if not wait_gone(process, timeout_s):
        raise AnswerNo(
            f"{name} is still on {pressed_s:.0f} s after its power button was pressed",
            why="its system is busy, or ignores the button",
            remedy=f"wait longer: dacha stop {name} --wait 5min\n{force(name)}",
        )


def power_off(process: Process, run: Path) -> None:
    """Power the guest off at once, like pulling its plug: by its monitor if that responds, else by its process."""
    with contextlib.suppress(OSError, PeerError, HostError), _monitor(run / QMP, timeout_s=2.0) as qmp:
        qmp.execute("quit")
    if not wait_gone(process, 5.0):
        kill(process)
        wait_gone(process, 10.0)


def pause(run: Path, *, resume: bool) -> None:
    """Suspend or resume the guest's virtual CPUs."""
    with _monitor(run / QMP) as qmp:
        qmp.execute("cont" if resume else "stop")
