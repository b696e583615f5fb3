"""Copies of a running guest's disks, as they are at one moment, while the guest keeps writing (QEMU documentation:
interop/live-block-operations, "blockdev-backup")."""

from __future__ import annotations

import contextlib
import os
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

from dacha.core.archive.marks import NO_MARKS, Marks, bitmap
from dacha.core.errors import DachaError, HostError
from dacha.hypervisor.command_line import QMP
from dacha.hypervisor.fdset import pass_file, pass_secret
from dacha.hypervisor.images import chain, making
from dacha.hypervisor.images.image_tool import Image
from dacha.hypervisor.live import bitmaps
from dacha.hypervisor.live.nodes import drop, node_of
from dacha.hypervisor.monitor.qmp import Qmp

Progress = Callable[[float], None]
# Names of the copies' nodes and jobs in QEMU, before the disk's name.
PREFIX = "copy-"
# How often it is looked whether they are complete (seconds).
_POLL_S, _POLL_MOST_S = 0.05, 1.0


def begin(qmp: Qmp, disks: dict[str, tuple[Path, Path]], *, whole: bool, marks: Marks = NO_MARKS) -> None:
    """Begin to copy disks of a running guest, all as they are at this moment: by name, each with its image and the new
    file. With `marks.since` a copy has what changed since that archive, and nothing below. Raises HostError."""
    actions = []
    for name, (disk, target) in disks.items():
        files = chain.layers(disk)
        size = chain.as_image(disk).size
        below = Image(files[1][0], files[1][1], size, ()) if len(files) > 1 and not whole else None
        making.create(target, size=size, base=below, full=False, key=chain.key(disk))
        node: dict[str, Any] = {
            "driver": "qcow2", "node-name": PREFIX + name, "backing": None,
            "file": {"driver": "file", "filename": pass_file(qmp, target, os.O_RDWR)},
        }  # fmt: skip
        if secret := pass_secret(qmp, disk):
            node["encrypt"] = {"format": "luks", "key-secret": secret}
        qmp.execute("blockdev-add", node)
        source = node_of(qmp, name)
        job = {"job-id": PREFIX + name, "device": source, "target": PREFIX + name, "auto-dismiss": False}
        if marks.new:
            bitmaps.remove(qmp, name, but=marks.since)
            actions.append(bitmaps.begun(source, marks.new))
        what = {"sync": "top" if below else "full"}
        if marks.since:
            # The bitmap stays as it is, until the archive is known to be whole.
            what = {"sync": "bitmap", "bitmap": bitmap(marks.since), "bitmap-mode": "never"}
        actions.append({"type": "blockdev-backup", "data": {**job, **what}})
    # A bitmap cannot begin in a transaction whose jobs end together.
    mode = "individual" if marks.new else "grouped"
    qmp.execute("transaction", {"actions": actions, "properties": {"completion-mode": mode}})


def finish(run: Path, progress: Progress) -> None:
    """Wait for the copies that were begun, and close them. The monitor is free between two looks, for other commands.
    Raises DachaError, OSError."""
    pause = _POLL_S
    while True:
        with Qmp(run / QMP, timeout_s=60.0) as qmp:
            jobs = _jobs(qmp)
            failed = next((str(j["error"]) for j in jobs if j.get("error")), "" if jobs else "the copies are gone")
            if all(j["status"] == "concluded" for j in jobs):
                end(qmp)
                break
        total = sum(j["total-progress"] for j in jobs)
        progress(sum(j["current-progress"] for j in jobs) / total if total else 0.0)
        time.sleep(pause)
        pause = min(pause * 1.2, _POLL_MOST_S)
    if failed:
        raise HostError("QEMU could not copy the disks", why=failed)
    progress(1.0)


def end(qmp: Qmp) -> None:
    """End copies that were begun, complete or not, and close their files."""
    for job in _jobs(qmp):
        with contextlib.suppress(DachaError):
            if job["status"] != "concluded":
                qmp.execute("job-cancel", {"id": job["id"]})
    deadline = time.monotonic() + 30.0
    while (left := _jobs(qmp)) and time.monotonic() < deadline:
        for job in left:
            with contextlib.suppress(DachaError):
                qmp.execute("job-dismiss", {"id": job["id"]})
        time.sleep(_POLL_S)
    for node in qmp.execute("query-named-block-nodes", {"flat": True}):
        if str(node.get("node-name", "")).startswith(PREFIX):
            with contextlib.suppress(DachaError):
                drop(qmp, node["node-name"])


def _jobs(qmp: Qmp) -> list[dict[str, Any]]:
    return [j for j in qmp.execute("query-jobs") if str(j.get("id", "")).startswith(PREFIX)]
