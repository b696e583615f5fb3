"""Faults inside a distribution's guest: Debian with systemd, OpenSSH and guest agent, made by tools/debian-guest.sh.

Part of `make faults` alone: the guest takes two minutes to make and, emulated, some more to start.
"""

from __future__ import annotations

import subprocess
import time
import tomllib
from pathlib import Path

import pytest

from dacha.hypervisor.monitor import agent
from tests.faults.rig import traced
from tests.networks.world import HostedLab

HERE = Path(__file__).parent
FAULTS = tomllib.loads((HERE / "debian.toml").read_text())["fault"]
LAB = """\
[lab]
name = "real"
[network.pier]
kind = "nat"
backend = "kernel"
subnet = "10.77.4.0/24"
[guest.gauge]
system = "debian"
memory = "1 GiB"
cpu = "qemu64"
disk = [{ from = "debian/disk.qcow2" }]
boot = { kernel = "debian/vmlinuz", initrd = "debian/initrd.img", command-line = "@LINE@" }
adapter = [{ network = "pier", address = "10.77.4.20" }]
login = { user = "ops", keys = ["id.pub"] }
door.ssh = { from = "lan", port = 2220 }
"""


def inside(lab: HostedLab, command: str) -> None:
    """A command by the guest's agent, as root; its systemd may be slow."""
    said = agent.run_script(Path(lab.env["DACHA_RUN"]) / "real/gauge", command, 60.0)
    assert said is not None, command


@pytest.mark.whole
def test_faults_inside_a_debian_guest_are_named_with_their_cause(hosted: HostedLab) -> None:
    lab, made = hosted, Path("/var/tmp/dacha-debian")
    subprocess.run([HERE.parent.parent / "tools/debian-guest.sh", made], check=True, timeout=900)
    (lab.folder / "debian").symlink_to(made)
    lab.write(LAB.replace("@LINE@", "root=LABEL=root rw console=ttyS0 net.ifnames=0"))
    lab("apply", "--wait", "15min", timeout=1000)
    # While its first boot goes on, its agent has no time for questions.
    deadline = time.monotonic() + 600
    while (lab("status", "--json", code=None).json["guests"][0]["first_boot"] or {}).get("state") == "running":
        assert time.monotonic() < deadline
        time.sleep(2)
    missed = []
    print(f"\n{'fault':<36} {'expected':<10} {'named':<10} healed")
    for fault in FAULTS:
        hop, says = fault["names"]
        inside(lab, fault["inject"])
        deadline = time.monotonic() + 30
        while True:  # its agent may be too busy to be heard at the first look
            said, _ = traced(lab, ("gauge", "ssh"), hop)
            words = " ".join(next((h for h in said["hops"] if h["name"] == said["broken"]), {}).values())
            if (said["broken"] == hop and says in words) or time.monotonic() > deadline:
                break
        if said["broken"] != hop or says not in words:
            missed.append((fault["name"], said["broken"], words))
        inside(lab, fault["heal"])
        deadline = time.monotonic() + 60
        while (after := traced(lab, ("gauge", "ssh"))[0])["broken"] and time.monotonic() < deadline:
            pass
        print(f"{fault['name']:<36} {hop:<10} {said['broken'] or 'none':<10} {after['broken'] or 'works'}")
        assert after["broken"] is None, (fault["name"], after["hops"][-1])
    print(f"{len(FAULTS)} faults, {len(FAULTS) - len(missed)} named with their cause")
    assert not missed, "\n".join(map(str, missed))
