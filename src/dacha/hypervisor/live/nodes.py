"""The block node behind a disk of a running guest: it has another name after the disk was moved."""

from __future__ import annotations

import contextlib
from typing import Any

from dacha.core.errors import DachaError, HostError
from dacha.hypervisor.monitor.qmp import Qmp


def node_of(qmp: Qmp, disk: str) -> str:
    """The name of the node that a disk's device uses. Raises HostError if the guest does not have this disk."""
    device = f"disk-{disk}-device"
    for block in qmp.execute("query-block"):
        # A device without an identifier of its own, such as the back end of a virtio disk, is named by its path.
        if device in str(block.get("qdev", "")).split("/"):
            return str(block.get("inserted", {}).get("node-name", ""))
    raise HostError(f"the guest's process does not have disk {disk}", remedy="dacha diff")


def drop(qmp: Qmp, name: str) -> None:
    """Close a node that nothing uses, and its file. One that does not exist is closed already."""
    nodes: list[dict[str, Any]] = qmp.execute("query-named-block-nodes", {"flat": True})
    for node in nodes:
        if node.get("node-name") == name:
            qmp.execute("blockdev-del", {"node-name": name})
            file = str(node.get("file", ""))
            if file.startswith("/dev/fdset/"):
                with contextlib.suppress(DachaError):
                    qmp.execute("remove-fd", {"fdset-id": int(file.rpartition("/")[2])})
