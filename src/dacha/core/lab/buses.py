"""The buses of a guest's disks: QEMU devices, guest drivers, and what works while the guest runs. To add one: a row
here and in docs/lab-file.md."""

from __future__ import annotations

from collections.abc import Collection

from dacha.core.named import NamedTuple

# How a disk is connected: through its own PCI port, to a controller that exists from the guest's start on, or to fixed
# connectors of the board.
PORT, CONTROLLER, BOARD = "port", "controller", "board"


class Bus(NamedTuple):
    """A bus: QEMU's device for a disk, the driver that a Linux kernel needs, how it is connected, and, without a port
    of its own, the `place` (with the disk's number) and the device of the controller."""

    name: str
    device: str
    driver: str
    connected: str
    place: str = ""
    controller: str = ""

    def attaches_live(self, there: Collection[str]) -> bool:
        """True if a disk can be attached while the guest runs; `there` are the buses that it was started with."""
        return self.connected == PORT or (self.connected == CONTROLLER and self.name in there)

    def detaches_live(self, number: int) -> bool:
        """True if the disk with that number can be detached while the guest runs: the first one on PCI has no port."""
        return self.connected == CONTROLLER or (self.connected == PORT and number > 0)


BUSES = {
    bus.name: bus
    for bus in (
        Bus("virtio", "virtio-blk-pci", "virtio_blk", PORT),
        Bus("sata", "ide-hd", "ahci", BOARD, "ide.{n}"),
        Bus("scsi", "scsi-hd", "virtio_scsi", CONTROLLER, "scsi.0", "virtio-scsi-pci,id=scsi"),
        Bus("nvme", "nvme", "nvme", PORT),
    )
}
