"""Media in a running guest's drives: inserted and ejected live (QEMU documentation: QMP block commands)."""

from __future__ import annotations

import time
from pathlib import Path

from dacha.core.errors import AnswerNo
from dacha.hypervisor.fdset import pass_file
from dacha.hypervisor.monitor.qmp import Qmp

# A guest that has mounted its medium locks the tray; it has this long to release it (seconds).
RELEASE_S = 3.0


def change(qmp: Qmp, drive: int, path: str | None, *, force: bool = False) -> None:
    """Insert the medium `path` into a drive, or with None eject its medium. Raises AnswerNo if the guest has locked the
    tray and `force` is not set."""
    device = f"drive{drive}"
    _open_tray(qmp, device, force)
    if _inserted(qmp, device):
        qmp.execute("blockdev-remove-medium", {"id": device})
    if path:
        node = f"medium{drive}-{time.monotonic_ns() % 10**9}"
        qmp.execute(
            "blockdev-add",
            {
                "driver": "raw",
                "node-name": node,
                "read-only": True,
                "file": {"driver": "file", "filename": pass_file(qmp, Path(path)), "read-only": True},
            },
        )
        qmp.execute("blockdev-insert-medium", {"id": device, "node-name": node})
    qmp.execute("blockdev-close-tray", {"id": device})


def _drive(qmp: Qmp, device: str) -> dict[str, object]:
    for row in qmp.execute("query-block"):
        if row.get("qdev", "").rpartition("/")[2] == device or row.get("device") == device:
            return dict(row)
    raise AnswerNo(f"the guest has no {device}", remedy="restart the guest: a drive is added at its next start")


def _inserted(qmp: Qmp, device: str) -> bool:
    return "inserted" in _drive(qmp, device)


def _open_tray(qmp: Qmp, device: str, force: bool) -> None:
    deadline = time.monotonic() + RELEASE_S
    qmp.execute("blockdev-open-tray", {"id": device, "force": force})
    while not _drive(qmp, device).get("tray_open"):
        if time.monotonic() >= deadline:
            raise AnswerNo(
                "the guest has locked the tray: it uses the medium",
                why="it did not release it on request",
                remedy="unmount it in the guest, or use --force: reads in progress then fail",
            )
        time.sleep(0.1)
