"""A guest's memory and devices, written to a file and read from one (QEMU documentation: devel/migration)."""

from __future__ import annotations

import time
from collections.abc import Callable
from typing import Any

from dacha.core.errors import AnswerNo, HostError
from dacha.hypervisor.monitor.qmp import Qmp

# The name under which QEMU keeps the passed descriptor, and the address that refers to it.
_NAME = "state"
_ADDRESS = f"fd:{_NAME}"
# The guest's virtual CPUs are stopped: nothing is gained by writing slowly (bytes per second).
_FASTEST = 1 << 40
# How often the progress is queried (seconds), and how long a state of any size may take.
_POLL_S, _POLL_MOST_S, LONGEST_S = 0.002, 0.05, 3600.0


def obstacles(qmp: Qmp) -> list[str]:
    """Why QEMU cannot write this guest's state, in its own words; empty if it can."""
    told = qmp.execute("query-migrate")
    return [str(reason) for reason in told.get("blocked-reasons", ())]


def write(qmp: Qmp, fd: int, progress: Callable[[float], None]) -> None:
    """Write the state of a guest whose virtual CPUs are stopped to an open file. Its disks are complete afterwards, and
    QEMU no longer writes to them. Raises HostError."""
    qmp.execute("migrate-set-parameters", {"max-bandwidth": _FASTEST})
    qmp.execute("getfd", {"fdname": _NAME}, (fd,))
    qmp.execute("migrate", {"uri": _ADDRESS})
    _await(qmp, progress, "write the guest's memory")


def read(qmp: Qmp, fd: int, progress: Callable[[float], None]) -> None:
    """Read a state into a QEMU that waits for one. Its virtual CPUs stay stopped, and its disks unused, until `cont`.
    Raises HostError."""
    # Until the state is complete, nothing is written to the disks: it can be read again after a failure.
    activate_late: dict[str, Any] = {"capability": "late-block-activate", "state": True}
    qmp.execute("migrate-set-capabilities", {"capabilities": [activate_late]})
    qmp.execute("getfd", {"fdname": _NAME}, (fd,))
    qmp.execute("migrate-incoming", {"uri": _ADDRESS})
    _await(qmp, progress, "read the guest's memory")


def _await(qmp: Qmp, progress: Callable[[float], None], doing: str) -> None:
    deadline, pause = time.monotonic() + LONGEST_S, _POLL_S
    while time.monotonic() < deadline:
        told = qmp.execute("query-migrate")
        match told.get("status"):
            case "completed":
                progress(1.0)
                return
            case "failed" | "cancelled":
                raise HostError(f"QEMU could not {doing}", why=str(told.get("error-desc", "it does not say why")))
        if (ram := told.get("ram")) and ram.get("total"):
            progress(1.0 - ram["remaining"] / ram["total"])
        time.sleep(pause)
        pause = min(pause * 1.2, _POLL_MOST_S)
    raise AnswerNo(f"QEMU did not {doing} within {LONGEST_S:.0f} s")


def let_run(qmp: Qmp, *, paused: bool = False) -> None:
    """Let a guest run again whose state was written, or is being written; a guest that was `paused` stays so. Its disks
    are inactive once its state is written: only `cont` activates them."""
    if qmp.execute("query-migrate").get("status") in ("setup", "active", "device"):
        qmp.execute("migrate_cancel")
    qmp.execute("cont")
    if paused:
        qmp.execute("stop")
