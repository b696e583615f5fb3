"""USB devices of this host in a running guest (QEMU documentation: usb.txt, QMP device_add with usb-host).

QEMU gets each device's file already open: its user need not have access to it. Which device a file is of stands beside
it in QEMU itself, so that nothing about it has to be stored.
"""

from __future__ import annotations

import contextlib
import os
from collections.abc import Iterator
from typing import Any

from dacha.core.errors import HostError
from dacha.core.lab.usb import HostDevice, Usb
from dacha.core.named import NamedTuple
from dacha.hypervisor.monitor.qmp import Qmp, QmpRefused

# How long QEMU may take to release a device (seconds): the guest is not asked.
RELEASE_S = 10.0
_OPAQUE = "usb"
# Where rules for devices are (udev(7)).
RULES = "/etc/udev/rules.d/70-dacha.rules"


class Attached(NamedTuple):
    """A device that QEMU has: by its name there, and the bus and number that it had when it was attached (None: not
    known)."""

    identifier: str
    at: tuple[int, int] | None


def attached(qmp: Qmp) -> list[Attached]:
    """The devices of this host that QEMU has."""
    children = qmp.execute("qom-list", {"path": "/machine/peripheral"})
    names = [str(c["name"]) for c in children if c["type"] == "child<usb-host>"]
    if not names:
        return []
    # A device that was plugged in again has a newer set, beside one that QEMU still lists.
    opened = {name: at for _, name, at in sorted(_sets(qmp))}
    return [Attached(name, opened.get(name)) for name in names]


def _sets(qmp: Qmp) -> Iterator[tuple[int, str, tuple[int, int]]]:
    """The descriptors of devices in QEMU: the number of each set, the device's name, its bus and number."""
    for fdset in qmp.execute("query-fdsets"):
        for fd in fdset["fds"]:
            words = str(fd.get("opaque", "")).split()
            if len(words) == 4 and words[0] == _OPAQUE:
                yield int(fdset["fdset-id"]), words[1], (int(words[2]), int(words[3]))


def attach(qmp: Qmp, wanted: Usb, found: HostDevice) -> None:
    """Give a device of this host to the guest. Raises HostError."""
    try:
        fd = os.open(found.node, os.O_RDWR | os.O_CLOEXEC)
    except OSError as e:
        raise _not_opened(found, e) from e
    name = wanted.identifier
    told = {"opaque": f"{_OPAQUE} {name} {found.bus} {found.number}"}
    try:
        fdset = qmp.execute("add-fd", told, descriptors=(fd,))["fdset-id"]
    finally:
        os.close(fd)
    device = {"driver": "usb-host", "id": name, "bus": "usb.0", "hostdevice": f"/dev/fdset/{fdset}"}
    try:
        qmp.execute("device_add", device)
    except QmpRefused as e:
        with contextlib.suppress(HostError):
            qmp.execute("remove-fd", {"fdset-id": fdset})
        raise HostError(f"cannot attach the USB device {wanted}", why=e.what) from e


def _not_opened(found: HostDevice, e: OSError) -> HostError:
    what = f"cannot open the USB device {found.device} at port {found.port}: {found.node}"
    if not isinstance(e, PermissionError):
        return HostError(what, why=e.strerror or str(e))
    import pwd

    vendor, _, product = found.device.partition(":")
    owner = pwd.getpwuid(os.geteuid()).pw_name
    rule = f'SUBSYSTEM=="usb", ATTR{{idVendor}}=="{vendor}", ATTR{{idProduct}}=="{product}", OWNER="{owner}"'
    remedy = (
        f"echo '{rule}' | sudo tee -a {RULES} && sudo udevadm control --reload && "
        "sudo udevadm trigger --action=add --subsystem-match=usb"
    )
    return HostError(what, why=f"{owner} may not use it", remedy=remedy)


def detach(qmp: Qmp, identifier: str) -> None:
    """Take a device away from the guest; it is this host's again. Raises HostError if QEMU keeps it."""
    try:
        qmp.execute("device_del", {"id": identifier})
    except QmpRefused as e:
        if e.kind == "DeviceNotFound":
            return
        raise
    for _ in range(20):
        event: dict[str, Any] | None = qmp.wait_event({"DEVICE_DELETED"}, RELEASE_S)
        if event is None:
            raise HostError(
                f"QEMU does not release the USB device {identifier}", why=f"it had {RELEASE_S:.0f} s for it"
            )
        if event["data"].get("device") == identifier:
            break
    for number, name, _ in list(_sets(qmp)):
        if name == identifier:
            with contextlib.suppress(HostError):  # QEMU has closed it meanwhile
                qmp.execute("remove-fd", {"fdset-id": number})
