"""Faults inside a distribution's guest: Debian with systemd, OpenSSH and guest agent, made by tools/debian-guest.sh.

Part of `make faults` alone: the guest takes two minutes to make and, emulated, some more to start.
"""

from __future__ import annotations

import contextlib
import os
import re
import shlex
import subprocess
import time
import tomllib
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from dacha.hypervisor.monitor import agent
from tests.faults.remedies import steps
from tests.faults.rig import traced
from tests.faults.slowing import begin_relay, process_of, processor
from tests.networks.world import HostedLab, until

HERE = Path(__file__).parent
# Those whose name matches DACHA_FAULTS alone.
_WANTED = re.compile(os.environ.get("DACHA_FAULTS", ""))
FAULTS = [f for f in tomllib.loads((HERE / "debian.toml").read_text())["fault"] if _WANTED.search(f["name"])]
LAB = """\
[lab]
name = "real"
[network.pier]
kind = "nat"
backend = "@BACKEND@"
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
    said = agent.run_script(Path(lab.env["DACHA_RUN"]) / "real/gauge", command, 180.0)
    assert said is not None, command


def heal(lab: HostedLab, fault: dict[str, Any]) -> None:
    """Heal a fault in the guest, or by a command of this host."""
    command = fault["heal"].replace("@NOW", f"@{time.time():.0f}")
    if not command.startswith("dacha "):
        return inside(lab, command)
    lab(*command.split()[1:], code=None, timeout=900)
    deadline = time.monotonic() + 600
    while not agent_there(lab) or works(lab):
        assert time.monotonic() < deadline, fault["name"]
    return None


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


# Two releases: other versions of systemd, OpenSSH, the agent and the first-boot software.
RELEASES = {"bookworm": "/var/tmp/dacha-debian", "trixie": "/var/tmp/dacha-trixie"}


def booted(lab: HostedLab, release: str = "bookworm", backend: str = "kernel") -> None:
    """A lab with a Debian guest that has finished its first boot, on a network of this backend."""
    made = Path(RELEASES[release])
    subprocess.run([HERE.parent.parent / "tools/debian-guest.sh", made, release], check=True, timeout=900)
    (lab.folder / "debian").symlink_to(made)
    line = "root=LABEL=root rw console=ttyS0 net.ifnames=0"
    lab.write(LAB.replace("@LINE@", line).replace("@BACKEND@", backend))
    lab("apply", "--wait", "15min", timeout=1000)
    # While its first boot goes on, its agent has no time for questions.
    deadline = time.monotonic() + 600
    while (lab("status", "--json", code=None).json["guests"][0]["first_boot"] or {}).get("state") == "running":
        assert time.monotonic() < deadline
        time.sleep(2)


@pytest.mark.whole
@pytest.mark.parametrize("backend", ["kernel", "user"])
@pytest.mark.parametrize("release", RELEASES)
def test_faults_inside_a_debian_guest_are_named_with_their_cause(hosted: HostedLab, release: str, backend: str) -> None:
    lab = hosted
    booted(lab, release, backend)
    inside(lab, "cat /sys/class/net/eth0/address > /root/mac")
    missed, vain = [], []
    print(f"\n{'fault':<46} {'expected':<10} {'named':<10} {'remedy':<8} healed")
    faults = [f for f in FAULTS if backend == "kernel" or f.get("user", True)]
    for fault in faults:
        hop, says = fault.get("user", fault["names"]) if backend == "user" else fault["names"]
        inside(lab, fault["inject"])
        time.sleep(fault.get("settles-s", 0))
        found, words, took = named(lab)
        by = ""
        if found is None or found["name"] not in hop.split("|") or says not in words:
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
            heal(lab, fault)
        after = works(lab)
        shown = found["name"] if found else "none"
        print(f"{fault['name']:<46} {hop:<10} {shown:<10} {by[:8]:<8} {after or 'works'}  {took:.1f} s", flush=True)
        if missed and missed[-1][0] == fault["name"]:
            print(f"    {missed[-1]}", flush=True)
        assert not after, (fault["name"], after)
    print(f"{len(faults)} faults, {len(faults) - len(missed)} named with their cause")
    print(f"{len(vain)} remedies that were commands did not mend it")
    # A new host key, given live: trusted here, and the old one by nobody any more.
    known = (lab.folder / "state/labs/real/known_hosts").read_text()
    said = lab("guest", "host-key", "gauge", "--renew", timeout=240).out
    assert "installed by its guest agent" in said and "dacha handout" in said
    assert (lab.folder / "state/labs/real/known_hosts").read_text() != known and works(lab) is None
    assert lab("connect", "gauge", "--", "hostname").out == "gauge\n"
    assert not missed, "\n".join(map(str, missed))
    assert not vain, "\n".join(map(str, vain))


def agent_there(lab: HostedLab) -> bool:
    return agent.ask(Path(lab.env["DACHA_RUN"]) / "real/gauge", "guest-ping", 10.0) is not None


@contextlib.contextmanager
def condition(lab: HostedLab, name: str) -> Iterator[None]:
    """A guest that is slow or mute while it is looked at."""
    run = Path(lab.env["DACHA_RUN"]) / "real/gauge"
    with contextlib.ExitStack() as stack:
        if name in ("quarter", "tenth"):
            stack.enter_context(processor(process_of(run), {"quarter": 0.25, "tenth": 0.1}[name]))
        elif name.startswith("slow"):
            inside(lab, f"echo {name.replace('-', ' ')} > /run/relay")
        elif name != "usual":
            # A moment later, so that the agent can say that it has done so.
            inside(lab, f"(sleep 2; echo {name.replace('-', ' ')} > /run/relay) > /dev/null 2>&1 &")
            closed = name.startswith("away")
            until(lambda: agent.runs(run) is False if closed else agent.ask(run, "guest-ping", 0.7) is None)
        yield
    if name.startswith("slow"):
        inside(lab, "echo slow 0 > /run/relay")
    elif name != "usual":
        until(lambda: agent_there(lab))


# How it is looked at; where the agent can tell, in time, the cause is to be named, and elsewhere to be among those that
# remain.
CONDITIONS = ("slow-3", "quarter", "tenth", "away-45", "mute-75")
TELLS = ("slow-3", "quarter", "tenth")


def judged(fault: dict[str, Any], found: dict[str, Any] | None, words: str) -> str:
    """Whether the cause was "named", is "among" those that remain, others alone remain ("open"), no hop was said to be
    broken ("none"), or another cause was said ("false")."""
    hop, says = fault["names"]
    right = found is not None and found["name"] in hop.split("|")
    open_ = "one of: " in words or " or " in words
    told = says in words or fault.get("among", "\0") in words
    if right and told and ("one of: " not in words if says in words else not open_):
        return "named"
    changes = found is not None and any(s.command for s in steps(found["remedy"] or ""))
    # A guest too slow for what comes before is no false cause, as long as that is left open.
    if (changes and not told) or not open_ or (right and fault.get("among") and not told):
        return "none" if found is None else "false"
    return "among" if told else "open"


@pytest.mark.whole
@pytest.mark.parametrize("part", range(2))
def test_a_slow_or_mute_guest_is_given_no_cause_that_is_not_proved(hosted: HostedLab, part: int) -> None:
    """One cause alone is the right one; else the right one is among those that remain. (In two parts: each fault is
    looked at five times, for minutes.)"""
    lab = hosted
    booted(lab)
    run = Path(lab.env["DACHA_RUN"]) / "real/gauge"
    inside(lab, begin_relay())
    until(lambda: "up" in (agent.run_script(run, "[ -S /run/relay.sock ] && echo up", 60.0) or ""))
    count: dict[tuple[str, str], int] = {}
    false = []
    faults = [f for f in FAULTS if "settles-s" not in f][part::2]
    for fault in faults:
        inside(lab, fault["inject"].replace("@NOW", f"@{time.time():.0f}"))
        line = f"{fault['name']:<46} "
        for name in CONDITIONS:
            with condition(lab, name):
                found, words, took = named(lab)
            kind = judged(fault, found, words)
            line += f"{name}: {kind} {took:.0f} s · "
            count[name, kind] = count.get((name, kind), 0) + 1
            if kind == "false" or (kind != "named" and name in TELLS):
                print(f"    {name}: {kind}: {words}")
            false += [(fault["name"], name, words)] if kind == "false" else []
        heal(lab, fault)
        with condition(lab, "tenth"):
            after = works(lab)
        print(f"{line}{after or 'healed'}", flush=True)
        after = after and works(lab)
        assert not after, (fault["name"], after)
    for name in CONDITIONS:
        print(f"{name:<10} {', '.join(f'{n} {k}' for (c, k), n in sorted(count.items()) if c == name)}")
    assert not false, "\n".join(map(str, false))
    for name in TELLS:
        assert count.get((name, "named"), 0) >= 0.95 * len(faults) - 1, (name, count)
