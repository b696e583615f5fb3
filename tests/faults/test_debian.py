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


def booted(lab: HostedLab) -> None:
    """A lab with a Debian guest that has finished its first boot."""
    made = Path("/var/tmp/dacha-debian")
    subprocess.run([HERE.parent.parent / "tools/debian-guest.sh", made], check=True, timeout=900)
    (lab.folder / "debian").symlink_to(made)
    lab.write(LAB.replace("@LINE@", "root=LABEL=root rw console=ttyS0 net.ifnames=0"))
    lab("apply", "--wait", "15min", timeout=1000)
    # While its first boot goes on, its agent has no time for questions.
    deadline = time.monotonic() + 600
    while (lab("status", "--json", code=None).json["guests"][0]["first_boot"] or {}).get("state") == "running":
        assert time.monotonic() < deadline
        time.sleep(2)


@pytest.mark.whole
def test_faults_inside_a_debian_guest_are_named_with_their_cause(hosted: HostedLab) -> None:
    lab = hosted
    booted(lab)
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


# Runs while its agent is away: comes back by itself.
AWAY = (
    "systemd-run -q --on-active=1 --timer-property=AccuracySec=100ms "
    "sh -c 'systemctl stop qemu-guest-agent; sleep 45; systemctl start qemu-guest-agent'"
)


def agent_there(lab: HostedLab) -> bool:
    return agent.ask(Path(lab.env["DACHA_RUN"]) / "real/gauge", "guest-ping", 2.0) is not None


def until_agent(lab: HostedLab, there: bool) -> None:
    deadline = time.monotonic() + 120
    while agent_there(lab) != there:
        assert time.monotonic() < deadline, there
        time.sleep(0.5)


@pytest.mark.whole
def test_without_an_agent_no_cause_is_named_that_is_not_proved(hosted: HostedLab) -> None:
    """One cause alone is the right one; else the right one is among those that remain."""
    lab = hosted
    booted(lab)
    false = []
    for fault in FAULTS:
        hop, says = fault["names"]
        inside(lab, fault["inject"].replace("@NOW", f"@{time.time():.0f}"))
        inside(lab, AWAY)
        until_agent(lab, False)
        found, words, took = named(lab)
        right = found is not None and found["name"] == hop
        open_ = "one of: " in words or " or " in words
        told = says in words or fault.get("among", "\0") in words
        kind = "among" if told and open_ else "open" if open_ else "?"
        kind = "named" if right and told and "one of: " not in words else kind
        print(f"{fault['name']:<46} {found['name'] if found else 'none':<10} {kind:<6} {took:.1f} s")
        changes = found is not None and any(s.command for s in steps(found["remedy"] or "")) and not (right and told)
        if kind == "?" or changes or (fault.get("among") and not told):
            false.append((fault["name"], words))
        until_agent(lab, True)
        inside(lab, fault["heal"].replace("@NOW", f"@{time.time():.0f}"))
        assert not (after := works(lab)), (fault["name"], after)
    print(f"{len(FAULTS)} faults without an agent, {len(false)} false causes")
    assert not false, "\n".join(map(str, false))
