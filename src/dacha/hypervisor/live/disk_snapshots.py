"""Snapshots of a running guest's disks, inside their images (QEMU documentation: QMP, block commands)."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from dacha.hypervisor.monitor.qmp import Qmp, QmpRefused


def take(qmp: Qmp, nodes: Iterable[str], name: str) -> None:
    """Take a snapshot of all these disks of a guest at the same moment, while it runs or is paused. Raises
    HostError."""
    actions = [{"type": "blockdev-snapshot-internal-sync", "data": {"device": node, "name": name}} for node in nodes]
    if actions:
        qmp.execute("transaction", {"actions": actions})


def delete(qmp: Qmp, node: str, name: str) -> None:
    """Delete a snapshot of a disk that a guest has open; one that is not there is deleted already. Raises
    HostError."""
    try:
        qmp.execute("blockdev-snapshot-delete-internal-sync", {"device": node, "name": name})
    except QmpRefused:
        if name in _of(qmp, node):
            raise


def _of(qmp: Qmp, node: str) -> set[str]:
    """The names of the snapshots of a disk that a guest has open."""
    nodes: list[dict[str, Any]] = qmp.execute("query-named-block-nodes", {"flat": True})
    images = [n.get("image", {}) for n in nodes if n.get("node-name") == node]
    return {s["name"] for image in images for s in image.get("snapshots", ())}
