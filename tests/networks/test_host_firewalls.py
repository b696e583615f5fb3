"""This host's own firewall: dead behind it, opened with consent by its owner's means, and as it was afterwards."""

from __future__ import annotations

import shutil
import signal
import subprocess
import time
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import AbstractContextManager, contextmanager
from pathlib import Path

import pytest

from tests.networks.world import HostedLab, World

LAB = """\
[lab]
name = "saltmarsh"
[network.pier]
kind = "nat"
backend = "kernel"
subnet = "10.77.4.0/24"
subnet6 = "fd77:4::/64"
[network.hut]
kind = "nat"
[guest.gauge]
@BOOT@
adapter = [{ network = "pier", address = "10.77.4.20", address6 = "fd77:4::20" }]
door.ssh = { from = "lan", port = 2220 }
door.six = { service = "ssh", from = "lan", port = 2226, listen = "2001:db8:1::a" }
[guest.desk]
@BOOT@
adapter = [{ network = "hut" }]
door.ssh = { from = "lan", port = 2230 }
"""
# A firewall as people write one by hand: what answers may come back, and nothing that is new comes in or through.
PLAIN_NFT = """\
table inet mine {
  chain in { type filter hook input priority 0; policy drop; ct state established,related accept; iifname "lo" accept;
    icmpv6 type { nd-neighbor-solicit, nd-neighbor-advert, nd-router-advert } accept; }
  chain through { type filter hook forward priority 0; policy drop; tcp dport 9 accept; }
}
"""
# Set by hand with iptables, with the chain that a container engine leaves to its administrator.
IPTABLES = (
    "iptables -P FORWARD DROP", "iptables -N DOCKER-USER", "iptables -A DOCKER-USER -j RETURN",
    "iptables -A FORWARD -j DOCKER-USER", "iptables -A FORWARD -m conntrack --ctstate RELATED,ESTABLISHED -j ACCEPT",
    "iptables -P INPUT DROP", "iptables -A INPUT -i lo -j ACCEPT",
    "iptables -A INPUT -m conntrack --ctstate RELATED,ESTABLISHED -j ACCEPT",
    "ip6tables -P FORWARD DROP", "ip6tables -A FORWARD -m conntrack --ctstate RELATED,ESTABLISHED -j ACCEPT",
)  # fmt: skip
UNDO = "iptables -P FORWARD ACCEPT; iptables -P INPUT ACCEPT; iptables -F; iptables -X; "
UNDO += "ip6tables -P FORWARD ACCEPT; ip6tables -F"
# Where each door is entered from the LAN.
DOORS = (("192.0.2.10", 2220), ("192.0.2.10", 2230), ("2001:db8:1::a", 2226))


class Apart:
    """The world's host with files of its own at some places: a process that holds them mounted."""

    def __init__(self, world: World, folder: Path, *places: str) -> None:
        self.folder = folder
        mounts = []
        for n, place in enumerate(places):
            copy = folder / f"own-{n}"
            subprocess.run(["cp", "-a", place, copy], check=True)
            mounts.append(f"mount --bind {copy} {place}")
        mounts += ["mount -t tmpfs tmpfs /run", "mkdir /run/dbus /run/lock"]
        script = " && ".join([*mounts, "echo ready", "exec sleep 3000"])
        self.holder = subprocess.Popen(
            world.inside("host", "unshare", "-m", "sh", "-c", script), stdout=subprocess.PIPE
        )
        assert self.holder.stdout and self.holder.stdout.readline() == b"ready\n"

    def inside(self, *command: str) -> list[str]:
        return ["nsenter", "-t", str(self.holder.pid), "-m", "-n", f"--wd={self.folder}", *command]

    def run(self, *command: str) -> str:
        done = subprocess.run(self.inside(*command), capture_output=True, text=True, check=False, timeout=120)
        assert done.returncode == 0, done
        return done.stdout

    def close(self) -> None:
        self.holder.kill()
        self.holder.wait()


@contextmanager
def ufw(here: Apart) -> Iterator[str]:
    here.run("ufw", "allow", "in", "on", "eth0", "to", "any", "port", "22", "proto", "tcp", "comment", "mine")
    here.run("ufw", "--force", "enable")
    yield "ufw"
    here.run("ufw", "--force", "disable")


@contextmanager
def by_hand(here: Apart) -> Iterator[str]:
    for line in IPTABLES:
        here.run(*line.split())
    yield "iptables"
    here.run("sh", "-c", UNDO)


@contextmanager
def older_tables(here: Apart) -> Iterator[str]:
    """The same in the kernel's older tables, which nft does not see."""
    for line in IPTABLES:
        here.run(*line.replace("tables", "tables-legacy", 1).split())
    yield "iptables-legacy"
    here.run("sh", "-c", UNDO.replace("tables", "tables-legacy"))


@contextmanager
def plain_nft(here: Apart) -> Iterator[str]:
    subprocess.run(here.inside("nft", "-f", "-"), input=PLAIN_NFT, text=True, check=True)
    yield "nft"
    here.run("nft", "delete", "table", "inet", "mine")


@contextmanager
def firewalld(here: Apart) -> Iterator[str]:
    bus = subprocess.Popen(here.inside("dbus-daemon", "--system", "--nofork", "--nopidfile"))
    daemon = subprocess.Popen(here.inside("firewalld", "--nofork", "--nopid"), stderr=subprocess.DEVNULL)
    try:
        for _ in range(600):
            asked = subprocess.run(here.inside("firewall-cmd", "--state"), capture_output=True, text=True, check=False)
            if asked.stdout.strip() == "running":
                break
            time.sleep(0.1)
        here.run("firewall-cmd", "--zone=public", "--add-interface=eth0")
        yield "firewalld"
    finally:
        for process in (daemon, bus):
            process.send_signal(signal.SIGTERM)
            process.wait(30)


def rules(here: Apart) -> str:
    """Every rule of others, by their own programs, without what counts."""
    tables = sorted(t for t in here.run("nft", "list", "tables").splitlines() if " dacha_" not in t)
    told = [here.run("nft", "-s", "list", *t.split()) for t in tables if not t.endswith("firewalld")]
    if "table inet firewalld" in tables:
        # It makes a zone's chains when first needed, and leaves them there, empty.
        told += [here.run("firewall-cmd", *kept, "--list-all-zones") for kept in ([], ["--permanent"])]
    told.append(
        here.run(
            "sh",
            "-c",
            "for t in ip ip6; do ${t}tables-save; ${t}tables-legacy-save; done; ufw show added; cat /etc/ufw/*.rules",
        )
    )
    return "\n".join(line for text in told for line in text.splitlines() if not line.startswith(("#", ":")))


Firewall = Callable[[Apart], AbstractContextManager[str]]
USUAL = [ufw]
# Installing the first of these on somebody's own machine would start its service there.
OTHERS = [*([firewalld] if shutil.which("firewalld") else []), by_hand, older_tables, plain_nft]


@pytest.mark.parametrize("firewalls", [USUAL, pytest.param(OTHERS, marks=pytest.mark.whole)], ids=["usual", "others"])
def test_a_lab_behind_this_hosts_firewall(
    hosted: HostedLab, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, firewalls: list[Firewall]
) -> None:
    lab, world = hosted, hosted.world
    lab.write(LAB)
    here, plain = Apart(world, tmp_path, "/etc/ufw", "/etc/firewalld"), world.inside

    def inside(machine: str, *command: str | Path) -> list[str]:
        return here.inside(*map(str, command)) if machine == "host" else plain(machine, *command)

    monkeypatch.setattr(world, "inside", inside)
    far = world.serve("other", "192.0.2.30", 7000, "far")
    try:
        lab("apply", timeout=400)
        assert all(world.greets("lan", *door) for door in DOORS)
        for firewall in firewalls:
            with firewall(here) as owner:
                through_it(lab, here, owner, rules(here))
            lab("apply")
    finally:
        far.kill()
        here.close()


def through_it(lab: HostedLab, here: Apart, owner: str, before: str) -> None:
    world = lab.world

    def doors(expected: list[bool]) -> list[bool]:
        """Which are open: what is to be shut has less time to show that it is not."""
        times = [20.0 if is_open else 4.0 for is_open in expected]
        with ThreadPoolExecutor() as at_once:
            said = at_once.map(lambda door, seconds: world.reads("lan", *door, seconds), DOORS, times)
            return [words.startswith("SSH-") for words in said]

    def out() -> str:
        asked = "nc -w 20 192.0.2.30 7000 < /dev/null; nslookup gauge.saltmarsh.internal 10.77.4.2 2>&1"
        return lab("connect", "gauge", "--", asked, code=None, timeout=120).out

    text, entered = lab.file.read_text(), [True, True, True]
    # One that lets by whatever this host leads on shuts only what ends at this host.
    behind = [owner == "firewalld", False, owner == "firewalld"]
    assert doors(behind) == behind, owner
    said = [f for f in lab("check", "--json", code=None).json["findings"] if f["code"] == "host-firewall"]
    assert said and owner in said[0]["what"] and "dacha apply --open-firewall" in said[0]["remedy"], said
    done = lab("apply", "--open-firewall").out
    assert f"in {owner}" in done, done
    assert doors(entered) == entered, (owner, done, rules(here))
    assert "far 192.0.2.10" in out() and "10.77.4.20" in out(), (owner, out())
    assert "nothing to do" in lab("apply", "--no-wait").out
    opened = rules(here)
    assert opened != before
    # A door that changes takes its rule with it, and one that is gone leaves none.
    lab("door", "edit", "desk", "ssh", "--from", "host")
    assert f"removed from its own firewall: door desk ssh in {owner}" in lab("apply").out
    assert world.reads("lan", "192.0.2.10", 2230, 2) in ("silent", "refused")
    lab("door", "edit", "desk", "ssh", "--from", "lan")
    lab("apply")
    assert doors(entered) == entered
    # Without consent all is as it was, byte for byte.
    lab.file.write_text(text)
    assert "removed from its own firewall" in lab("apply").out
    assert rules(here) == before, owner
    assert doors(behind) == behind, owner
