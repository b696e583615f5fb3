"""The USB devices of a host, as the kernel lists them: from folders with the form of its own."""

from __future__ import annotations

from pathlib import Path

import pytest

from dacha.host.devices.usb import devices, present
from tests.conftest import Lab

BUS = "devices/pci0000:00/0000:00:14.0/usb1"
KEYBOARD = "1000000000007 ff9f207ac14057ff febeffdfffefffff fffffffffffffffe"
BUTTON = "10000000000000 0"


class Kernel:
    """A /sys and a /proc of made-up devices."""

    def __init__(self, folder: Path) -> None:
        self.sys, self.proc = folder / "sys", folder / "proc"
        (self.sys / "bus/usb/devices").mkdir(parents=True)
        (self.proc / "self").mkdir(parents=True)
        self.tell(self.proc / "self/mountinfo", "22 1 254:0 / / rw - ext4 /dev/vda rw")
        self.tell(self.proc / "swaps", "Filename\tType\tSize\tUsed\tPriority")
        self.numbers = 1
        self.put("usb1", BUS, "1d6b:0002", kind="09")

    def tell(self, path: Path, text: str) -> None:
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(text + "\n")

    def put(self, port: str, where: str, device: str, *, kind: str = "00", name: str = "", serial: str = "") -> Path:
        """Plug a device in; returns its folder."""
        folder = self.sys / where
        vendor, _, product = device.partition(":")
        told = {"busnum": "1", "devnum": str(self.numbers), "idVendor": vendor, "idProduct": product,
                "bDeviceClass": kind, "product": name, "serial": serial}  # fmt: skip
        self.numbers += 1
        for key, text in told.items():
            if text:
                self.tell(folder / key, text)
        (self.sys / "bus/usb/devices" / port).symlink_to(folder)
        return folder

    def interface(self, folder: Path) -> Path:
        """A device's first interface; the kernel lists it as well."""
        inner = folder / f"{folder.name}:1.0"
        self.tell(inner / "bInterfaceNumber", "00")
        (self.sys / "bus/usb/devices" / inner.name).symlink_to(inner)
        return inner

    def stick(self) -> Path:
        folder = self.put("1-1", f"{BUS}/1-1", "1209:7001", name="Tide stick", serial="T7")
        disk = self.interface(folder) / "host2/target2:0:0/2:0:0:0/block/sdb"
        self.tell(disk / "dev", "8:16")
        self.tell(disk / "sdb1/partition", "1")
        self.tell(disk / "sdb1/dev", "8:17")
        (disk / "holders").mkdir()
        (disk / "sdb1/holders").mkdir()
        return disk

    def keyboard(self, number: int, port: str) -> None:
        where = self.interface(self.put(port, f"{BUS}/{port}", "1209:4b00", name="Keyboard")) / f"input/input{number}"
        self.tell(self.sys / where / "capabilities/key", KEYBOARD)
        self.input(self.sys / where)

    def input(self, where: Path) -> None:
        (self.sys / "class/input").mkdir(parents=True, exist_ok=True)
        (self.sys / "class/input" / where.name).symlink_to(where)

    def uses(self) -> list[str]:
        return [str(u) for d in devices(self.sys, self.proc) for u in d.used]


@pytest.fixture
def kernel(tmp_path: Path) -> Kernel:
    return Kernel(tmp_path)


def test_devices_are_listed_with_their_ports_and_names(kernel: Kernel) -> None:
    kernel.put("1-1", f"{BUS}/1-1", "1209:0001", kind="09", name="Hub")
    kernel.put("1-1.4", f"{BUS}/1-1/1-1.4", "1209:2303", name="Tide probe \x1b[31m\u202e", serial="A1")
    hub, probe = devices(kernel.sys, kernel.proc)
    assert hub.hub and hub.port == "1-1"
    assert (probe.bus, probe.port, probe.device, probe.serial) == (1, "1-1.4", "1209:2303", "A1")
    assert probe.node == f"/dev/bus/usb/001/{probe.number:03}"
    assert "\x1b" not in probe.name and "\u202e" not in probe.name and probe.name.startswith("Tide probe")
    assert len(present(kernel.sys)) == 2
    assert devices(kernel.sys / "none", kernel.proc) == [] and present(kernel.sys / "none") == frozenset()


def test_a_disk_that_this_host_uses_is_not_free(kernel: Kernel) -> None:
    disk = kernel.stick()
    assert kernel.uses() == []
    kernel.tell(kernel.proc / "self/mountinfo", "30 22 8:17 / /mnt/tide\\040data rw - vfat /dev/sdb1 rw")
    assert kernel.uses() == ["sdb1 is mounted at /mnt/tide data"]
    kernel.tell(kernel.proc / "self/mountinfo", "")
    kernel.tell(kernel.proc / "swaps", "Filename Type\n/dev/sdb1 partition 1 0 -2")
    assert kernel.uses() == ["sdb1 is swap space"]
    kernel.tell(kernel.proc / "swaps", "")
    (disk / "sdb1/holders/dm-0").mkdir()
    assert kernel.uses() == ["sdb1 belongs to dm-0"]


def test_an_adapter_that_is_up_is_not_free(kernel: Kernel) -> None:
    adapter = kernel.interface(kernel.put("1-2", f"{BUS}/1-2", "1209:e000")) / "net/enx02"
    kernel.tell(adapter / "flags", "0x1003")
    assert kernel.uses() == ["its network adapter enx02 is up"]
    kernel.tell(adapter / "flags", "0x1002")
    assert kernel.uses() == []


def test_the_only_keyboard_is_not_free_and_one_of_two_is(kernel: Kernel) -> None:
    kernel.keyboard(3, "1-3")
    button = kernel.sys / "devices/platform/button/input/input0"
    kernel.tell(button / "capabilities/key", BUTTON)
    kernel.input(button)
    assert kernel.uses() == ["it is the only keyboard of this host"]
    kernel.keyboard(4, "1-4")
    assert kernel.uses() == []


def test_what_a_hub_has_behind_it_is_not_its_own(kernel: Kernel) -> None:
    kernel.put("1-1", f"{BUS}/1-1", "1209:0001")
    adapter = kernel.interface(kernel.put("1-1.1", f"{BUS}/1-1/1-1.1", "1209:e000")) / "net/enx02"
    kernel.tell(adapter / "flags", "0x1003")
    assert {d.port: len(d.used) for d in devices(kernel.sys, kernel.proc)} == {"1-1": 0, "1-1.1": 1}


def test_a_damaged_entry_hides_no_other(kernel: Kernel) -> None:
    folder = kernel.put("1-1", f"{BUS}/1-1", "1209:0001")
    (folder / "busnum").write_bytes(b"\xff\xfe")
    kernel.put("1-2", f"{BUS}/1-2", "1209:2303")
    (kernel.sys / "bus/usb/devices/1-9").symlink_to(folder / "gone")
    assert [d.port for d in devices(kernel.sys, kernel.proc)] == ["1-2"]


def test_the_lab_file_and_the_commands_name_devices(lab: Lab) -> None:
    lab.write('[lab]\nname = "pier"\n[guest.gauge]\nmemory = "64 MiB"\nusb = ["1209:2303", "1209:23"]\n')
    said = lab("check", code=2).err + lab("check", code=2).out
    assert "lab.toml:5" in said and "'1209:23' is not a vendor and product of USB" in said
    lab.write('[lab]\nname = "pier"\n[guest.gauge]\nmemory = "64 MiB"\nusb = ["1-4", "1-4"]\n')
    assert "a device is listed twice" in lab("check", code=2).out
    lab.write('[lab]\nname = "pier"\n[guest.gauge]\nmemory = "64 MiB"\n')
    lab("guest", "edit", "gauge", "--add-usb", "1209:2303=A1", "--add-usb", "1-4")
    assert 'usb = ["1209:2303=A1", "1-4"]' in lab.file.read_text()
    assert "USB device         1209:2303=A1: not plugged in" in lab("guest", "show", "gauge").out
    assert "USB device port 1-4 is not plugged in" in lab("check").out
    said = lab("guest", "edit", "gauge", "--remove-usb", "1-5", code=2).err
    assert "gauge has no USB device port 1-5" in said and "1209:2303=A1, port 1-4" in said
    lab("guest", "edit", "gauge", "--remove-usb", "1-4", "--remove-usb", "1209:2303=A1")
    assert "usb" not in lab.file.read_text()
