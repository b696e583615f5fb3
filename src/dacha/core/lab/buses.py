"""The buses that a guest's disks can be on: what each is to QEMU and to the guest's system, and what can be done live.

A new bus is a row here and in docs/lab-file.md.
"""

from __future__ import annotations

from collections.abc import Collection

from dacha.core.named import NamedTuple

# How a disk is connected: behind a PCI port of its own, to a controller that has to be there from the guest's start on,
# or to the board's own connectors, which are fixed.
PORT, CONTROLLER, BOARD = "port", "controller", "board"


class Bus(NamedTuple):
    """A bus: QEMU's device for a disk there, the driver that a Linux kernel needs for it, how it is connected, where
    (`place`, with the disk's number) and by which device, where that is not its own port."""

    name: str
    device: str
    driver: str
    connected: str
    place: str = ""
    controller: str = ""

    def attaches_live(self, there: Collection[str]) -> bool:
        """True when a disk can be attached while the guest runs; `there` are the buses that it was started with."""
        return self.connected == PORT or (self.connected == CONTROLLER and self.name in there)

    def detaches_live(self, number: int) -> bool:
        """True when its disk of that number can be detached while it runs: the first on PCI has no port."""
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
