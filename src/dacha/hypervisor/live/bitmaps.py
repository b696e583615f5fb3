"""What changed on a running guest's disks since an archive: QEMU's dirty bitmaps (QEMU documentation:
interop/bitmaps).

A bitmap is in the image, and is updated by whatever QEMU program writes to it. It is called after the archive whose
moment it began at. If a program that does not know bitmaps writes to the image, or the guest's process is killed, QEMU
no longer vouches for it: then it is not usable, and the next archive is whole.
"""

from __future__ import annotations

import contextlib
from typing import Any

from dacha.core.archive.marks import PREFIX, bitmap
from dacha.core.errors import DachaError
from dacha.hypervisor.live.nodes import node_of
from dacha.hypervisor.monitor.qmp import Qmp


def usable(qmp: Qmp, disk: str, archive: str) -> bool:
    """True if QEMU knows everything that changed on this disk since the archive."""
    found = _of(qmp, node_of(qmp, disk)).get(bitmap(archive), {})
    return bool(found.get("recording") and found.get("persistent")) and not found.get("inconsistent")


def remove(qmp: Qmp, disk: str, *, but: str = "") -> None:
    """Remove all bitmaps of archives from this disk, except the one of archive `but`."""
    node = node_of(qmp, disk)
    for name in _of(qmp, node):
        if name.startswith(PREFIX) and name != bitmap(but):
            with contextlib.suppress(DachaError):
                qmp.execute("block-dirty-bitmap-remove", {"node": node, "name": name})


def remove_damaged(qmp: Qmp, disk: str) -> None:
    """Remove the bitmaps of archives that QEMU no longer vouches for: with them a disk cannot be resized."""
    node = node_of(qmp, disk)
    for name, found in _of(qmp, node).items():
        if name.startswith(PREFIX) and found.get("inconsistent"):
            qmp.execute("block-dirty-bitmap-remove", {"node": node, "name": name})


def begun(node: str, archive: str) -> dict[str, Any]:
    """The action of a transaction by which a bitmap begins."""
    return {"type": "block-dirty-bitmap-add", "data": {"node": node, "name": bitmap(archive), "persistent": True}}


def _of(qmp: Qmp, node: str) -> dict[str, dict[str, Any]]:
    nodes: list[dict[str, Any]] = qmp.execute("query-named-block-nodes", {"flat": True})
    return {str(b.get("name")): b for n in nodes if n.get("node-name") == node for b in n.get("dirty-bitmaps", ())}
