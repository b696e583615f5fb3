"""The way from outside: a guest entered from a machine beyond the router, through mappings that the router was asked
for, with the simulated router and with a real one."""

from __future__ import annotations

import json
import os
import signal
import struct
import subprocess
import sys
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import pytest

from tests.networks.test_bridge import make_bridge
from tests.networks.world import HostedLab, World, begin_router, end_router, until

LAB = """\
[lab]
name = "real"
[network.plain]
kind = "nat"
subnet = "10.77.5.0/24"
[guest.gauge]
@BOOT@
adapter = [{ network = "plain", address = "10.77.5.20" }]
door.ssh = { from = "outside", port = 2220 }
"""
KERNEL = LAB.replace('kind = "nat"', 'kind = "nat"\nbackend = "kernel"')
# A router's own rules: it leads out, leaves in what was asked for, and drops the rest.
RULES = """\
table inet filter {
 chain forward { type filter hook forward priority 0; policy drop; ct state established,related accept
  iifname eth0 accept; jump miniupnpd; }
 chain prerouting { type nat hook prerouting priority -100; jump prerouting_miniupnpd; }
 chain postrouting { type nat hook postrouting priority 100; jump postrouting_miniupnpd; oifname eth1 masquerade; }
 chain miniupnpd { }
 chain prerouting_miniupnpd { }
 chain postrouting_miniupnpd { }
}
"""
CONFIGURATION = """\
ext_ifname=eth1
listening_ip=eth0
enable_upnp=yes
enable_natpmp={pcp}
secure_mode=no
uuid=00000000-0000-0000-0000-000000000001
allow 1024-65535 192.0.2.0/24 0-65535
deny 0-65535 0.0.0.0/0 0-65535
"""


@contextmanager
def simulated(world: World, *options: str) -> Iterator[None]:
    """The router that ships with Dacha, on the world's router."""
    router = begin_router(world, *options)
    try:
        yield
    finally:
        end_router(router)


@contextmanager
def real(world: World, folder: Path, program: Path, pcp: str = "yes") -> Iterator[None]:
    """miniupnpd on the world's router."""
    world.run("router", "sysctl", "-qw", "net.ipv4.ip_forward=1")
    (folder / "rules").write_text(RULES)
    (folder / "router.conf").write_text(CONFIGURATION.format(pcp=pcp))
    world.run("router", "nft", "flush", "ruleset")
    world.run("router", "nft", "-f", str(folder / "rules"))
    log = folder / "router.log"
    with log.open("wb") as out:
        command = world.inside("router", program, "-d", "-f", folder / "router.conf", "-P", folder / "router.pid")
        router = subprocess.Popen(command, stdout=out, stderr=out)
    deadline = time.monotonic() + 120
    while "Listening for" not in log.read_text() and "HTTP listening" not in log.read_text():
        assert router.poll() is None and time.monotonic() < deadline, log.read_text()
        time.sleep(0.05)
    try:
        yield
    finally:
        router.terminate()
        router.wait(60)


@pytest.fixture(scope="session")
def miniupnpd(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Debian's, unpacked and not installed. It refuses to serve on addresses that are set aside, as those for
    documentation are, and these tests use no others: in this copy 198.51.100.0/24 is taken off that list."""
    folder = tmp_path_factory.mktemp("miniupnpd")
    subprocess.run(["apt-get", "download", "-qq", "miniupnpd-nftables"], cwd=folder, check=True, capture_output=True)
    subprocess.run(["dpkg-deb", "-x", str(next(folder.glob("*.deb"))), folder], check=True)
    program = folder / "usr/sbin/miniupnpd"
    entry, never = struct.pack("=II", 0xC6336400, 32 - 24), struct.pack("=II", 0xFFFFFFFF, 0)
    data = program.read_bytes()
    assert data.count(entry) == 1
    program.write_bytes(data.replace(entry, never))
    return program


def known(lab: HostedLab) -> dict[str, Any]:
    file = lab.folder / "state/labs/real/router.json"
    return dict(json.loads(file.read_text())) if file.exists() else {}


def hop(lab: HostedLab, name: str, code: int, *, asked: bool = True) -> dict[str, str]:
    """A hop of the way from outside; who could not be asked in time, on a busy machine, is asked again."""

    def seen() -> tuple[int, dict[str, str]] | None:
        done = lab("trace", "gauge", "--from", "outside", "--all", "--json", code=None)
        told = dict(next(h for h in done.json["hops"] if h["name"] == name))
        return None if asked and told["verdict"] == "not tested" else (done.code, told)

    ended, told = until(seen)
    assert ended == code, told
    return dict(told)


def enters(lab: HostedLab, port: int = 2220, patience_s: float = 20.0) -> str:
    return lab.world.reads("outside", "198.51.100.1", port, patience_s)


def test_a_guest_is_entered_from_outside_renewed_while_it_stands_and_shut_after(hosted: HostedLab) -> None:
    """User mode, the simulated router, and mappings that lapse within seconds unless they are renewed."""
    lab = hosted
    lab.write(LAB)
    with simulated(lab.world, "--lifetime", "4"):
        said = lab("apply")
        assert "ssh -p 2220" in next(line for line in said.out.splitlines() if " outside " in line)
        assert enters(lab).startswith("SSH-2.0")
        row = lab("status", "--json").json["guests"][0]["doors"][0]
        assert (row["from"], row["address"], row["port"], row["seen"]) == ("outside", "198.51.100.1", 2220, "open")
        assert "forwards gauge ssh at 198.51.100.1" in lab("caretaker", "status").out
        first = known(lab)["mappings"][0]["made"]
        until(lambda: known(lab)["mappings"][0]["made"] > first + 3)
        assert enters(lab).startswith("SSH-2.0"), "the caretaker has renewed it"
        assert hop(lab, "router", 0)["verdict"] == "fine"
        cell = lab("reach", "gauge", "--json").json["services"][0]["from"]["outside"]
        assert cell["ways"] == [{"address": "198.51.100.1", "port": 2220, "through": "door ssh", "only": []}]
        lab("door", "edit", "gauge", "ssh", "--from", "lan")
        assert "led" not in lab("diff").out and "ask the router to stop forwarding gauge ssh" in lab("diff").out
        lab("apply")
        assert enters(lab) == "refused" and not known(lab)
        assert "everything applied" in lab("diff").out
        assert "it needs no caretaker" in lab("caretaker", "status").out
        refused = lab("trace", "gauge", "--from", "outside", code=2)
        assert "dacha door edit gauge ssh --from outside" in refused.err


@pytest.mark.whole
def test_a_router_started_anew_is_told_again(hosted: HostedLab) -> None:
    """A kernel lab: the guest sees who really asks, and the mapping comes back by itself with the same outside port."""
    lab = hosted
    lab.write(KERNEL)
    with simulated(lab.world, "--speaks", "nat-pmp"):
        lab("apply")
        assert enters(lab).startswith("SSH-2.0")
        assert known(lab)["speaks"] == "nat-pmp"
        os.kill(lab("caretaker", "status", "--json").json["pid"], signal.SIGSTOP)
    with simulated(lab.world):
        assert enters(lab) == "refused"
        told = hop(lab, "router", 1)
        assert (told["verdict"], told["remedy"]) == ("broken", "dacha apply") and "lost its port mappings" in told[
            "seen"
        ]
        os.kill(lab("caretaker", "status", "--json").json["pid"], signal.SIGCONT)
        lab("apply")
        until(lambda: enters(lab).startswith("SSH-2.0"))


def test_a_router_that_is_to_be_asked_no_more_leads_nothing_in(hosted: HostedLab) -> None:
    lab = hosted
    lab.write(LAB)
    with simulated(lab.world):
        lab("apply")
        assert enters(lab).startswith("SSH-2.0")
        # This host's own address goes and comes back: the router has forgotten nothing by that.
        lab.world.run("host", "ip", "address", "flush", "dev", "eth0")
        lab("apply", "--no-wait", code=None)
        assert "no default route" in known(lab)["trouble"] and len(known(lab)["mappings"]) == 1
        for words in ("address add 192.0.2.10/24 dev eth0", "route add default via 192.0.2.1"):
            lab.world.run("host", "ip", *words.split())
        until(lambda: not known(lab)["trouble"])
        assert enters(lab).startswith("SSH-2.0")
        lab.write(LAB.replace('name = "real"', 'name = "real"\nrouter = "none"'))
        assert "ask the router to stop forwarding gauge ssh" in lab("diff").out
        lab("apply")
        assert enters(lab) == "refused" and "everything applied" in lab("diff").out


def test_a_second_nat_is_recognised(hosted: HostedLab) -> None:
    lab, told, says = hosted, "100.64.3.7", "a provider's shared address"
    lab.write(LAB)
    with simulated(lab.world, "--told", told):
        said = lab("apply")
        assert f"{told} is {says}" in said.err and "the router itself is behind another NAT" in said.err
        above = hop(lab, "outside-address", 1)
        assert above["verdict"] == "broken" and says in above["seen"]
        assert lab("status", "--json", code=1).json["guests"][0]["doors"][0]["answers"] is False
        assert "behind another NAT" in lab("reach", "gauge").out


def test_a_router_that_takes_no_questions_is_entered_by_hand(hosted: HostedLab) -> None:
    lab = hosted
    lab.write(LAB)
    line = "outside port 2220, TCP, to 192.0.2.10, port 2220"
    said = lab("apply")
    assert "supports neither PCP, NAT-PMP nor UPnP" in said.err and line in said.err
    told = hop(lab, "router", 1)
    assert told["verdict"] == "broken" and line in told["remedy"]
    lab.write(LAB.replace('name = "real"', 'name = "real"\nrouter = "none"'))
    lab("apply")
    assert hop(lab, "router", 0, asked=False)["seen"].endswith(f"it needs: {line}")
    assert (
        lab("status", "--json").json["guests"][0]["doors"][0]["seen"]
        == "open on the LAN; no requests are sent to the router"
    )


def test_a_guest_on_the_lan_is_led_in_by_its_own_address(hosted: HostedLab, tmp_path: Path, miniupnpd: Path) -> None:
    """PCP refuses to map for another machine than the asker; UPnP does it."""
    lab, world = hosted, hosted.world
    make_bridge(world)
    adapter = 'adapter = [{ network = "quay", address = "192.0.2.50" }]'
    network = '[network.quay]\nkind = "bridge"\ninterface = "br0"\nsubnet = "192.0.2.0/24"\ngateway = "192.0.2.1"\n'
    door = 'door.ssh = { from = "outside", outside-port = 2250 }\n'
    lab.write(f'[lab]\nname = "real"\n{network}[guest.gauge]\n@BOOT@\n{adapter}\n{door}')
    with real(world, tmp_path, miniupnpd):
        assert "ssh -p 2250" in lab("apply").out
        assert [m["speaks"] for m in known(lab)["mappings"]] == ["upnp"] and known(lab)["speaks"] == "pcp"
        assert enters(lab, 2250).startswith("SSH-2.0")
        assert hop(lab, "router", 0)["verdict"] == "fine"
        lab("door", "edit", "gauge", "ssh", "--from", "lan")


@pytest.mark.parametrize("speaks", [pytest.param("pcp", marks=pytest.mark.whole), "upnp"])
def test_a_real_router(hosted: HostedLab, tmp_path: Path, miniupnpd: Path, speaks: str) -> None:
    lab, world = hosted, hosted.world
    lab.write(KERNEL)
    with real(world, tmp_path, miniupnpd, "yes" if speaks == "pcp" else "no"):
        (way,) = lab("apply", "--json").json["outside"]
        assert (way["address"], way["port"], way["above"]) == ("198.51.100.1", 2220, None)
        assert known(lab)["speaks"] == speaks
        assert enters(lab).startswith("SSH-2.0")
        assert hop(lab, "router", 0)["verdict"] == "fine"
        if speaks == "upnp":
            # It can be asked where a port leads: what another program changed there is seen. The caretaker, which would
            # ask for the mapping again at its next look, is held meanwhile.
            caretaker = lab("caretaker", "status", "--json").json["pid"]
            os.kill(caretaker, signal.SIGSTOP)
            end = (
                "from dacha.core.router.mapping import Mapping, MappingRequest as R\n"
                "from dacha.host.router.upnp import Upnp\n"
                "gone = Mapping(R('gauge', 'ssh', 'tcp', 2220, '192.0.2.10', 2220), 2220, '', 0, 0)\n"
                "Upnp('192.0.2.1', '192.0.2.30').unmap(gone)\nprint('done')"
            )
            until(lambda: "done" in world.run("other", sys.executable, "-c", end, check=False))
            assert not enters(lab, patience_s=3.0).startswith("SSH-2.0")
            told = hop(lab, "router", 1)
            os.kill(caretaker, signal.SIGCONT)
            assert told["verdict"] == "broken"
            lab("apply")
            until(lambda: enters(lab).startswith("SSH-2.0"))
        lab("door", "remove", "gauge", "ssh")
        lab("apply")
        assert enters(lab, patience_s=3.0) in ("refused", "silent")
        assert "2220" not in world.run("router", "nft", "list", "ruleset")
