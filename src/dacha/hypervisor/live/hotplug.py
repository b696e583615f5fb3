"""Attach and detach disks while a guest runs (QEMU documentation: pcie.txt, QMP device_add and device_del)."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from dacha.core.apply.machine import MachineDisk
from dacha.core.errors import AnswerNo, HostError
from dacha.core.lab.buses import BUSES, PORT
from dacha.hypervisor.command_line import SPARE_PORTS, disk_device, disk_node
from dacha.hypervisor.fdset import pass_layers
from dacha.hypervisor.live.nodes import node_of
from dacha.hypervisor.monitor.qmp import Qmp, QmpRefused

# How long a guest may take to release a disk (seconds).
RELEASE_S = 15.0


def attach(qmp: Qmp, disk: MachineDisk, path: Path) -> None:
    """Attach the disk of the image `path` to the guest. Raises HostError if it has no free port."""
    node = disk_node(disk["name"], pass_layers(qmp, path))
    driver, *options = disk_device(disk).split(",")
    device: dict[str, Any] = {"driver": driver} | dict(o.split("=", 1) for o in options)
    qmp.execute("blockdev-add", node)
    bus = BUSES[disk["bus"]]
    places: list[dict[str, Any]] = [{"bus": bus.place}]
    if bus.connected == PORT:
        # The slot is explicit, because QEMU would use the next one, which a port does not have.
        places = [{"bus": f"spare{n}", "addr": "0"} for n in range(SPARE_PORTS)]
    refused: QmpRefused | None = None
    for place in places:
        try:
            qmp.execute("device_add", device | place)
            return
        except QmpRefused as e:
            refused = e
    qmp.execute("blockdev-del", {"node-name": node["node-name"]})
    raise HostError(
        f"disk {disk['name']} cannot be attached while the guest runs",
        why="all its hot-plug ports are in use" if bus.connected == PORT else refused.what if refused else "",
        remedy="to attach it at its next start: dacha restart",
    )


def detach(qmp: Qmp, name: str) -> None:
    """Detach a disk, and wait until the guest has released it. Raises AnswerNo if it does not."""
    device, node = f"disk-{name}-device", node_of(qmp, name)
    qmp.execute("device_del", {"id": device})
    for _ in range(20):
        event = qmp.wait_event({"DEVICE_DELETED", "DEVICE_UNPLUG_GUEST_ERROR"}, RELEASE_S)
        if event is None or event["event"] == "DEVICE_UNPLUG_GUEST_ERROR":
            break
        if event["data"].get("device") == device:
            qmp.execute("blockdev-del", {"node-name": node})
            return
    raise AnswerNo(
        f"the guest does not release disk {name}",
        why="its system uses it, or is not up yet",
        remedy="unmount it in the guest and apply again; its next start detaches it anyway",
    )
