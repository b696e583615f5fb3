"""USB devices that come and go: the outer hypervisor plugs emulated ones into the host, whose guests get them.

`make host-tests`. The guest has the host's own kernel, and reports on its console what it finds on its USB.
"""

from __future__ import annotations

import shlex
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from dacha.hypervisor.monitor.qmp import Qmp
from tests.networks.world import until
from tests.whole_host.conftest import DACHA, WholeHost

pytestmark = pytest.mark.whole
LAB = """\
[lab]
name = "probes"
accelerator = "kvm"
[guest.sensor]
memory = "256 MiB"
video = false
boot = { kernel = "vmlinuz", initrd = "usb.cpio", command-line = "console=ttyS0 quiet" }
usb = ["46f4:0001=TIDE7"]
[guest.heron]
memory = "32 MiB"
video = false
usb = ["46f4:0001"]
"""
KIMS = """\
[lab]
name = "kims-probe"
accelerator = "kvm"
[guest.tern]
memory = "32 MiB"
video = false
usb = ["46f4:0001"]
"""
INIT = """\
#!/bin/busybox sh
/bin/busybox mkdir -p /proc /sys /dev
/bin/busybox mount -t proc proc /proc
/bin/busybox mount -t sysfs sysfs /sys
/bin/busybox mount -t devtmpfs dev /dev
for module in usb-common usbcore xhci-hcd xhci-pci; do /bin/busybox insmod /modules/$module.ko; done
before=-
while true; do
    now=$(/bin/busybox cat /sys/bus/usb/devices/*-*/serial 2> /dev/null | /bin/busybox tr '\\n' ' ')
    [ "$now" = "$before" ] || echo "on usb: [$now]"
    before=$now
    /bin/busybox sleep 0.3
done
"""
# From what the host has: its kernel with modules, and the small guest's busybox.
MAKE = """\
set -e
mkdir -p /root/usb/bin /root/usb/modules /root/small
cd /root/small && cpio -idm --quiet < /opt/dacha/guest/initrd.cpio
cp "$(find /root/small -name busybox -type f | head -n 1)" /root/usb/bin/busybox
cd /lib/modules/$(uname -r)/kernel/drivers/usb
cp common/usb-common.ko core/usbcore.ko host/xhci-hcd.ko host/xhci-pci.ko /root/usb/modules/
chmod 755 /root/usb/init
cp /boot/vmlinuz-* /root/vmlinuz
cd /root/usb && find . | cpio -o -H newc --quiet > /root/usb.cpio
"""


class Sockets:
    """The sockets of the host's USB: devices are plugged into it, and pulled out."""

    def __init__(self, host: WholeHost, folder: Path) -> None:
        self.host, self.disk = host, folder / "stick.img"
        self.disk.write_bytes(bytes(16 << 20))
        self.disk.chmod(0o666)

    def qmp(self) -> Qmp:
        return Qmp(self.host.run_folder / "qmp", timeout_s=60.0)

    def plug_stick(self) -> None:
        with self.qmp() as qmp:
            node = {"driver": "raw", "node-name": "stick", "file": {"driver": "file", "filename": str(self.disk)}}
            qmp.execute("blockdev-add", node)
            qmp.execute(
                "device_add",
                {"driver": "usb-storage", "id": "stick", "bus": "usb.0", "drive": "stick", "serial": "TIDE7",
                 "removable": True},
            )  # fmt: skip

    def pull_stick(self) -> None:
        with self.qmp() as qmp:
            qmp.execute("device_del", {"id": "stick"})
            qmp.wait_event({"DEVICE_DELETED"}, 60.0)
            qmp.execute("blockdev-del", {"node-name": "stick"})

    def plug(self, driver: str) -> None:
        with self.qmp() as qmp:
            qmp.execute("device_add", {"driver": driver, "id": driver, "bus": "usb.0"})

    def pull(self, driver: str) -> None:
        with self.qmp() as qmp:
            qmp.execute("device_del", {"id": driver})
            qmp.wait_event({"DEVICE_DELETED"}, 60.0)


@pytest.fixture
def sockets(whole_host: WholeHost, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Sockets]:
    host = whole_host
    folder = Path("/tmp") / f"dacha-usb-{time.monotonic_ns()}"
    folder.mkdir(mode=0o711)
    host.write("/root/usb/init", INIT)
    host.sh(MAKE)
    host.write("/root/probes.toml", LAB)
    made = Sockets(host, folder)
    try:
        yield made
    finally:
        host.sh(f"cd /root && {DACHA} stop --all --force --wait 0s --lab probes.toml", None)
        host.sh(f"cd /root && {DACHA} lab remove probes --with-disks --yes", None)
        made.disk.unlink(missing_ok=True)
        folder.rmdir()


def on_usb(host: WholeHost) -> str:
    """What the guest last reported."""
    lines = host.sh("grep -a 'on usb:' /var/lib/dacha/labs/probes/guests/sensor/console.log", None).out.splitlines()
    return lines[-1].strip() if lines else ""


def here(host: WholeHost) -> dict[str, dict[str, object]]:
    return {d["device"]: d for d in host.sh(f"cd /root && {DACHA} host --json --lab probes.toml", None).json["usb"]}


def test_a_device_goes_to_its_guest_whenever_it_is_plugged_in(whole_host: WholeHost, sockets: Sockets) -> None:
    host = whole_host

    def dacha(words: str, code: int | None = 0) -> str:
        said = host.sh(f"cd /root && {DACHA} {words} --lab probes.toml", code)
        return said.out + said.err

    assert "USB device 46f4:0001=TIDE7 is not plugged in" in dacha("check")
    dacha("apply --no-wait")
    until(lambda: on_usb(host) == "on usb: []", 900)
    # Plugged in: the guest has it, without a command.
    sockets.plug_stick()
    until(lambda: "TIDE7" in on_usb(host), 120)
    stick = here(host)["46f4:0001"]
    assert (stick["guest"], stick["serial"], stick["used"]) == ("sensor", "TIDE7", [])
    print(dacha("host"))
    print(dacha("guest show sensor"))
    assert "everything applied" in dacha("diff")
    # The other guest that names it does not get it.
    assert "USB device 46f4:0001 is not given to the guest: sensor has it" in dacha("check")
    # Pulled out, and plugged in again.
    sockets.pull_stick()
    until(lambda: on_usb(host) == "on usb: []", 120)
    until(lambda: "46f4:0001" not in here(host), 60)
    sockets.plug_stick()
    began = time.monotonic()
    until(lambda: "TIDE7" in on_usb(host), 120)
    print(f"the guest has it again after {time.monotonic() - began:.1f} s")
    # It keeps it: nothing is attached again and again.
    changes = len(host.sh(f"cd /root && {DACHA} log --json --kind changed --lab probes.toml").out.splitlines())
    host.sh("sleep 25")
    assert len(host.sh(f"cd /root && {DACHA} log --json --kind changed --lab probes.toml").out.splitlines()) == changes
    assert "everything applied" in dacha("diff")
    # Saved to disk, the other one gets it; and not when that does not name it any more.
    dacha("pause sensor --save")
    until(lambda: here(host)["46f4:0001"]["guest"] == "heron", 60)
    dacha("guest edit heron --remove-usb 46f4:0001")
    dacha("apply --no-wait")
    assert here(host)["46f4:0001"]["guest"] is None
    dacha("start sensor")
    until(lambda: here(host)["46f4:0001"]["guest"] == "sensor", 120)
    until(lambda: "TIDE7" in on_usb(host), 120)
    # No longer in the lab file.
    dacha("guest edit sensor --remove-usb 46f4:0001=TIDE7")
    assert "detached the USB device" in dacha("apply --no-wait")
    until(lambda: on_usb(host) == "on usb: []", 120)
    until(lambda: host.sh("ls /sys/block | grep sd", None).out.strip() == "sda", 60)
    # This host uses it: it is not given away, and the reason is said; once released, the guest gets it.
    host.sh("mkfs.ext4 -q /dev/sda && mkdir -p /mnt/tide && mount /dev/sda /mnt/tide")
    assert "sda is mounted at /mnt/tide" in dacha("guest edit sensor --add-usb 46f4:0001", 3)
    assert "usb = [" not in host.sh("sed -n '/sensor/,/heron/p' /root/probes.toml").out
    host.sh("umount /mnt/tide")
    dacha("guest edit sensor --add-usb 46f4:0001")
    host.sh("mount /dev/sda /mnt/tide")
    dacha("apply --no-wait")
    assert "used by this host: sda is mounted at /mnt/tide" in dacha("guest show sensor")
    assert "umount /mnt/tide" in dacha("check")
    host.sh("umount /mnt/tide")
    until(lambda: "TIDE7" in on_usb(host), 120)
    # By port; a keyboard beside that of the host is free.
    sockets.plug("usb-kbd")
    keyboard = until(lambda: here(host).get("0627:0001"), 60)
    assert keyboard["used"] == []
    dacha(f"guest edit sensor --add-usb {keyboard['port']}")
    assert "attached the USB device 0627:0001" in dacha("apply --no-wait")
    assert here(host)["0627:0001"]["guest"] == "sensor"
    sockets.pull("usb-kbd")
    until(lambda: f"USB device port {keyboard['port']} is not plugged in" in dacha("check"), 60)
    # An ordinary user may not use it, until the printed command has been run.
    dacha("guest edit sensor --remove-usb 46f4:0001")
    dacha("apply --no-wait")
    host.sh("id kim || useradd -m -G kvm kim; echo 'kim ALL=(ALL) NOPASSWD: ALL' > /etc/sudoers.d/kim")
    host.write("/home/kim/probe.toml", KIMS)
    as_kim = f"cd /home/kim && runuser -u kim -- env XDG_RUNTIME_DIR= {DACHA}"
    failed = host.sh(f"{as_kim} apply --no-wait --lab probe.toml", None)
    assert "cannot open the USB device 46f4:0001" in failed.out + failed.err, failed
    remedy = next(x for x in (failed.out + failed.err).splitlines() if "udevadm" in x).strip()
    print(remedy)
    host.sh(f"cd /home/kim && runuser -u kim -- sh -c {shlex.quote(remedy)}")
    until(lambda: "in the guest" in host.sh(f"{as_kim} guest show tern --lab probe.toml").out, 60)
    host.sh(f"{as_kim} stop --all --force --wait 0s --lab probe.toml")
    host.sh(f"{as_kim} lab remove kims-probe --with-disks --yes")
    dacha("guest edit sensor --add-usb 46f4:0001")
    dacha("apply --no-wait")
    # Off, everything is this host's again.
    dacha("stop sensor --force --wait 0s")
    until(lambda: host.sh("ls /sys/block | grep sd", None).out.strip() == "sda", 60)
    assert here(host)["46f4:0001"]["guest"] is None
    sockets.pull_stick()
