"""Guests that are installed over their network: by their own answers, that nobody else is given."""

from __future__ import annotations

import subprocess
import time
from collections.abc import Callable
from pathlib import Path

import pytest

from dacha.core.lab.names import link_name
from tests.networks.test_network_boot import CLIENT
from tests.networks.world import PYTHON, HostedLab

INSTALLED = """\
[lab]
name = "saltmarsh"
[network.pier]
kind = "nat"
backend = "kernel"
subnet = "10.77.4.0/24"
boot = { files = "netboot" }
[guest.gauge]
system = "debian"
install = "network"
memory = "512 MiB"
video = false
disk = [{ size = "256 MiB" }]
adapter = [{ network = "pier", address = "10.77.4.20" }]
login = { user = "ops", keys = ["id.pub"] }
door.ssh = { from = "host", port = 2234 }
"""
ASK_FOR_ANSWERS = """
import socket
from http.client import HTTPConnection
def ask(path):
    c = HTTPConnection("10.77.4.1", 80, timeout=20); c.request("GET", path); a = c.getresponse()
    return a.status
print(ask("/answers/answers.cpio"), ask("/answers/"), ask("/boot/grub/grub.cfg"), fetch("answers/answers.cpio"))
"""


def installer_folder(folder: Path) -> None:
    """GRUB with the demo's installer, where one of Debian's would be."""
    from dacha.demo.installer_image import installer_image
    from dacha.formats.medium import read_files

    folder.mkdir()
    made = ["grub-mknetdir", f"--net-directory={folder}", "--locales=", "--fonts="]
    subprocess.run(made, check=True, capture_output=True)
    with installer_image("reboot").open("rb") as f:
        found = read_files(f, {"/boot/vmlinuz": 64 << 20, "/boot/initrd": 512 << 20})
    assert found
    (folder / "linux").write_bytes(found["/boot/vmlinuz"])
    (folder / "initrd.gz").write_bytes(found["/boot/initrd"])
    (folder / "boot/grub/grub.cfg").write_text("echo nobody said what to start\n")


def wait_for(seen: Callable[[], bool], limit_s: float, said: Callable[[], str]) -> None:
    deadline = time.monotonic() + limit_s
    while not seen():
        assert time.monotonic() < deadline, said()
        time.sleep(0.5)


@pytest.mark.whole
def test_a_guest_is_installed_over_its_network_by_answers_that_nobody_else_gets(hosted: HostedLab) -> None:
    """The demo's installer under Debian's name, in a folder whose own menu starts nothing."""
    lab, world = hosted, hosted.world
    installer_folder(lab.folder / "netboot")
    lab.write(INSTALLED)
    assert "none of its networks offers boot files" not in lab("check").out
    said = lab("guest", "answers", "gauge")
    assert "netcfg/get_ipaddress string 10.77.4.20" in said.out and "to its own address only" in said.err
    lab("apply", "--no-wait", timeout=240)

    def record() -> str:
        text: str = lab("console", "gauge", "--record").out
        return text[-3000:]

    log = lab.guest_folder("gauge").parent.parent / "caretaker.log"
    wait_for(lambda: "answers/answers.cpio was sent (10.77.4.20)" in log.read_text(), 600, record)
    # A machine on the same network that is not the guest, while it is being installed.
    bridge = link_name("saltmarsh", "network", "pier")
    world.plug("outside", bridge)
    world.run("outside", "ip", "address", "add", "10.77.4.99/24", "dev", "eth9")
    source = CLIENT.format(source=str(Path(__file__).parent.parent.parent / "src"))
    assert world.run("outside", *PYTHON, "-c", source + ASK_FOR_ANSWERS).strip() == "404 404 200 error 1"
    wait_for(lambda: '"answers": true' in lab("status", "--json", code=None).out, 600, record)
    assert lab("connect", "gauge", "--", "cat /proc/cmdline", timeout=240).out.startswith("BOOT_IMAGE=")
    assert lab("console", "gauge", "--record").out.count("demo installer: installed on /dev/vda") == 1
    assert lab("diff").out == "saltmarsh: everything applied\n"
    # What was made for it is gone, and its loader's menu is everybody's again.
    assert not (lab.guest_folder("gauge") / "answers").exists()
    lab("stop", "gauge", "--force", "--wait", "0s")
    # What it would not start from is said before.
    lab.write(INSTALLED.replace('backend = "kernel"\n', ""))
    assert 'backend = "kernel" in [network.pier]' in lab("check", code=None).out
    lab.write(INSTALLED.replace('boot = { files = "netboot" }\n', ""))
    assert "none of its networks offers boot files" in lab("check", code=None).out
    lab.write(INSTALLED.replace("guest.gauge", "guest.charts"))
    (lab.folder / "netboot/linux").unlink()
    assert "no kernel with its initrd exists in netboot" in lab("check").out
    lab.write(INSTALLED.replace("guest.gauge", "guest.charts").replace('"debian"', '"windows"'))
    assert "network installation of windows is not supported" in lab("check", code=None).out
    other = INSTALLED.replace("guest.gauge", "guest.charts")
    lab.write(other.replace('address = "10.77.4.20"', 'address = "dynamic"'))
    assert "remove the key address there, or set a fixed one" in lab("check", code=None).out
    lab.write(other + '[guest.gate]\nmemory = "64 MiB"\nadapter = [{ network = "pier", routes = true }]\n')
    assert "gate is a router on pier" in lab("check", code=None).out
    lab.write(INSTALLED.replace('install = "network"', 'install = "network"\nboot-order = ["disk", "medium"]'))
    assert "a network installation requires network boot" in lab("check", code=2).out
