"""Changes of the USB devices that running guests have."""

from __future__ import annotations

from dacha.core.apply.changes.change import GUESTS, change
from dacha.core.lab.usb import HostDevice, Usb
from dacha.core.named import NamedTuple


@change("attach-usb", GUESTS)
class AttachUsb(NamedTuple):
    """Give a USB device of this host to a running guest."""

    guest: str
    usb: Usb
    found: HostDevice

    def __str__(self) -> str:
        return f"attach the USB device {self._which}"

    def done(self) -> str:
        return f"attached the USB device {self._which}"

    @property
    def _which(self) -> str:
        name = f" ({self.found.name})" if self.found.name else ""
        return f"{self.found.device}{name} at port {self.found.port}"


@change("detach-usb", GUESTS)
class DetachUsb(NamedTuple):
    """Take a USB device away from a running guest, by its name in QEMU."""

    guest: str
    identifier: str

    def __str__(self) -> str:
        return f"detach the USB device {self._which}"

    def done(self) -> str:
        return f"detached the USB device {self._which}"

    @property
    def _which(self) -> str:
        return self.identifier.removeprefix("usb-")
