"""Snapshots of a running guest's disks, inside their images (QEMU documentation: QMP, block commands)."""

from __future__ import annotations

from collections.abc import Iterable

from dacha.hypervisor.monitor.qmp import Qmp


def take(qmp: Qmp, nodes: Iterable[str], name: str) -> None:
    """Take a snapshot of all these disks of a guest at the same moment, while it runs or is paused. Raises
    HostError."""
    actions = [{"type": "blockdev-snapshot-internal-sync", "data": {"device": node, "name": name}} for node in nodes]
    if actions:
        qmp.execute("transaction", {"actions": actions})


def delete(qmp: Qmp, node: str, name: str) -> None:
    """Delete a snapshot of a disk that a guest has open. Raises HostError."""
    qmp.execute("blockdev-snapshot-delete-internal-sync", {"device": node, "name": name})
