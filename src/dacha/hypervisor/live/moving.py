"""Move a running guest's disk to another file, while it writes to it (QEMU documentation:
interop/live-block-operations, "blockdev-mirror").

As soon as the new file is equal to the old one, each write of the guest is complete only when it is in both: whichever
of them the next start opens, it has everything.
"""

from __future__ import annotations

import contextlib
import os
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

from dacha.core.errors import DachaError, HostError
from dacha.hypervisor.command_line import QMP, disk_node
from dacha.hypervisor.fdset import pass_file, pass_secret
from dacha.hypervisor.images import chain
from dacha.hypervisor.images.layers import Layer
from dacha.hypervisor.live.nodes import drop, node_of
from dacha.hypervisor.monitor.qmp import Qmp

# The name of a disk's job in QEMU, before the disk's name.
_JOB = "move-"
_POLL_S, _POLL_MOST_S = 0.05, 1.0
# How long QEMU may take from "the files are equal" to using the new one only (seconds).
_SWITCH_S = 60.0


def begin(qmp: Qmp, disk: str, link: Path, target: Path) -> None:
    """Begin to copy a disk to a new, empty image, and from then on to write to both. Raises HostError."""
    below = chain.layers(link)[1:]
    layers = (
        Layer("qcow2", pass_file(qmp, target, os.O_RDWR), pass_secret(qmp, link)),
        *(Layer(format, pass_file(qmp, file)) for file, format in below),
    )
    old = node_of(qmp, disk)
    new = f"disk-{disk}" if old != f"disk-{disk}" else f"disk-{disk}-moved"
    qmp.execute("blockdev-add", disk_node(disk, layers) | {"node-name": new})
    job = {"job-id": _JOB + disk, "device": old, "target": new, "auto-dismiss": False, "copy-mode": "write-blocking"}
    qmp.execute("blockdev-mirror", {**job, "sync": "top" if below else "full"})


def await_equal(run: Path, disk: str, progress: Callable[[float], None]) -> None:
    """Wait until both files are equal. The monitor is free between two looks. Raises DachaError, OSError."""
    pause = _POLL_S
    while True:
        with Qmp(run / QMP, timeout_s=60.0) as qmp:
            job = _job(qmp, disk)
        if job is None or job["status"] in ("concluded", "aborting"):
            raise HostError(f"QEMU could not move disk {disk}", why=str(job.get("error", "")) if job else "")
        if job["status"] == "ready":
            progress(1.0)
            return
        progress(job["current-progress"] / max(1, job["total-progress"]))
        time.sleep(pause)
        pause = min(pause * 1.2, _POLL_MOST_S)


def switch(qmp: Qmp, disk: str) -> None:
    """Let the guest use the new file only. Nothing is done if it does already. Raises HostError."""
    old = _other(qmp, disk)
    if (job := _job(qmp, disk)) is not None and job["status"] == "ready":
        old = node_of(qmp, disk)
        qmp.execute("job-complete", {"id": _JOB + disk})
    _await_end(qmp, disk)
    if old:
        drop(qmp, old)


def cancel(qmp: Qmp, disk: str) -> None:
    """Let the guest use the old file only. Nothing is done if it does already."""
    if (job := _job(qmp, disk)) is not None and job["status"] not in ("concluded", "aborting"):
        # Forced: otherwise a job that is ready would be completed.
        qmp.execute("block-job-cancel", {"device": _JOB + disk, "force": True})
    _await_end(qmp, disk, failed=True)
    if (new := _other(qmp, disk)) is not None:
        drop(qmp, new)


def _other(qmp: Qmp, disk: str) -> str | None:
    """The node of the disk's other file, if it is open."""
    used = node_of(qmp, disk)
    names = {str(n.get("node-name")) for n in qmp.execute("query-named-block-nodes", {"flat": True})}
    return next((n for n in (f"disk-{disk}", f"disk-{disk}-moved") if n in names and n != used), None)


def _job(qmp: Qmp, disk: str) -> dict[str, Any] | None:
    return next((j for j in qmp.execute("query-jobs") if j.get("id") == _JOB + disk), None)


def _await_end(qmp: Qmp, disk: str, *, failed: bool = False) -> None:
    deadline = time.monotonic() + _SWITCH_S
    while (job := _job(qmp, disk)) is not None:
        if job["status"] == "concluded":
            with contextlib.suppress(DachaError):
                qmp.execute("job-dismiss", {"id": _JOB + disk})
            if job.get("error") and not failed:
                raise HostError(f"QEMU could not move disk {disk}", why=str(job["error"]))
        elif time.monotonic() > deadline:
            raise HostError(f"QEMU does not complete the move of disk {disk}", remedy="dacha apply")
        time.sleep(_POLL_S)
