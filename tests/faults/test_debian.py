"""Faults inside a distribution's guest: Debian with systemd, OpenSSH and guest agent, made by tools/debian-guest.sh.

Part of `make faults` alone: the guest takes two minutes to make and, emulated, some more to start.
"""

from __future__ import annotations

import shlex
import subprocess
import time
import tomllib
from pathlib import Path
from typing import Any

import pytest

from dacha.hypervisor.monitor import agent
from tests.faults.remedies import steps
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


def named(lab: HostedLab) -> tuple[dict[str, Any] | None, str, float]:
    """The broken hop at the first look, all that it says, and how long that took (seconds)."""
    began = time.monotonic()
    said = lab("trace", "gauge", "ssh", "--json", code=None, timeout=200).json
    found = next((h for h in said["hops"] if h["name"] == said["broken"]), None)
    return found, " ".join(filter(None, found.values())) if found else "", time.monotonic() - began


def mended(lab: HostedLab, remedy: str) -> str:
    """ "mended" when the remedy, carried out word for word, has mended it; else what was wrong."""
    found = steps(remedy)
    if not found:
        return f"no command: {remedy!r}"
    for step in found:
        assert not step.guest, f"its agent runs commands, and a person is to type: {remedy!r}"
        lab(*shlex.split(step.command)[1:], code=None, timeout=900)
    still = works(lab)
    return "mended" if still is None else f"{remedy!r} was done; still {still}"


def works(lab: HostedLab) -> str | None:
    """The hop that is still broken after a minute; None when somebody gets in."""
    deadline = time.monotonic() + 60
    while (after := traced(lab, ("gauge", "ssh"))[0])["broken"] and time.monotonic() < deadline:
        pass
    return str(after["hops"][-1]) if after["broken"] else None


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
    missed, vain = [], []
    print(f"\n{'fault':<46} {'expected':<10} {'named':<10} {'remedy':<8} healed")
    for fault in FAULTS:
        hop, says = fault["names"]
        inside(lab, fault["inject"])
        found, words, took = named(lab)
        by = ""
        if found is None or found["name"] != hop or says not in words:
            missed.append((fault["name"], found and found["name"], words))
        elif "by-hand" in fault:
            by = "by hand"
        else:
            by = mended(lab, found["remedy"])
            vain += [(fault["name"], by)] if by != "mended" else []
        if by == "mended" and "undo" in fault:
            for line in fault["undo"].strip().splitlines():
                inside(lab, line[4:]) if line.startswith("in: ") else lab(*line.split()[1:], timeout=600)
        else:
            inside(lab, fault["heal"].replace("@NOW", f"@{time.time():.0f}"))
        after = works(lab)
        shown = found["name"] if found else "none"
        print(f"{fault['name']:<46} {hop:<10} {shown:<10} {by[:8]:<8} {after or 'works'}  {took:.1f} s")
        assert not after, (fault["name"], after)
    print(f"{len(FAULTS)} faults, {len(FAULTS) - len(missed)} named with their cause")
    print(f"{len(vain)} remedies that were commands did not mend it")
    # A new host key, given live: trusted here, and the old one by nobody any more.
    known = (lab.folder / "state/labs/real/known_hosts").read_text()
    said = lab("guest", "host-key", "gauge", "--renew", timeout=240).out
    assert "put into it by its guest agent" in said and "dacha handout" in said
    assert (lab.folder / "state/labs/real/known_hosts").read_text() != known and works(lab) is None
    assert lab("connect", "gauge", "--", "hostname").out == "gauge\n"
    assert not missed, "\n".join(map(str, missed))
    assert not vain, "\n".join(map(str, vain))
