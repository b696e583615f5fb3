"""This host itself: other programs' packet marks, a LAN without a router, a cable that is unplugged."""

from __future__ import annotations

import pytest

from tests.networks.test_cut_off import LAB
from tests.networks.world import HostedLab

RULES = (
    # As a program for several ways out, and one that sets every bit before routing, on the way through and out.
    "iptables -t mangle -A PREROUTING -j CONNMARK --restore-mark",
    "iptables -t mangle -A PREROUTING -j MARK --set-mark 7",
    "iptables -t mangle -A FORWARD -j MARK --set-mark 7",
    "iptables -t mangle -A OUTPUT -j MARK --set-mark 7",
    "iptables -t mangle -A POSTROUTING -j MARK --set-mark 7",
)


def test_a_program_that_replaces_packet_marks_does_not_disconnect_guests(hosted: HostedLab) -> None:
    """Bridged packets pass the IP hooks here, as on every host with a container engine."""
    lab, world = hosted, hosted.world
    assert world.run("host", "sysctl", "-n", "net.bridge.bridge-nf-call-iptables").strip() == "1"
    lab.write(LAB)
    lab("apply", timeout=300)
    lab("stop", "charts", "--force", "--wait", "0s")
    for rule in RULES:
        world.run("host", *rule.split())
        assert world.greets("lan", "192.0.2.10", 2220, 10), rule
        assert world.greets("host", "10.77.4.20", 22, 10), rule
        world.run("host", "iptables", "-t", "mangle", "-F")


@pytest.mark.parametrize("rule", ["from 10.77.4.0/24 table 200"])
def test_a_policy_rule_for_this_hosts_own_packets_is_named(hosted: HostedLab, rule: str) -> None:
    lab, world = hosted, hosted.world
    lab.write(LAB)
    lab("apply", timeout=300)
    world.run("host", "ip", "route", "add", "blackhole", "default", "table", "200")
    world.run("host", "ip", "rule", "add", *rule.split())
    said = lab("trace", "gauge", "ssh", "--json", code=1).json
    hop = said["hops"][-1]
    assert said["broken"] == "route" and "from its own address 10.77.4.1" in hop["seen"], hop
    assert "ip rule" in hop["remedy"]
    world.run("host", "ip", "rule", "del", *rule.split())
    assert lab("trace", "gauge", "ssh").code == 0


def test_a_lan_without_a_router_is_a_lan(hosted: HostedLab) -> None:
    """The host has an address there, and no default route: clients near it get in all the same."""
    lab, world = hosted, hosted.world
    world.run("host", "ip", "route", "del", "default")
    for command in (
        "ip link add tunnel0 type tun mode tun", "ip tuntap add tap0 mode tap", "ip link add others0 type bridge",
        "ip addr add 198.51.100.1/24 dev tap0", "ip link set tap0 up", "ip addr add 203.0.113.1/24 dev others0",
        "ip link set others0 up", "ip link set tap0 master others0",
    ):  # fmt: skip
        world.run("host", *command.split(), check=False)
    lab.write(LAB)
    said = lab("apply", timeout=300).out
    assert "ssh -p 2220 ops@192.0.2.10" in said, said
    assert world.greets("lan", "192.0.2.10", 2220, 20)
    assert lab("trace", "gauge", "ssh").code == 0
    lan = lab("reach", "gauge", "--json").json["services"][0]["from"]["lan"]
    assert lan["ways"][0]["address"] == "192.0.2.10"


def test_an_unplugged_cable_is_told_by_status_and_trace(hosted: HostedLab) -> None:
    lab, world = hosted, hosted.world
    lab.write(LAB)
    lab("apply", timeout=300)
    world.run("switch", "ip", "link", "set", "host", "down")
    status = lab("status", "gauge", code=1)
    assert "not from the LAN: eth0 has no carrier" in status.out
    assert "door gauge ssh is not reachable from the LAN: dacha trace gauge ssh" in status.out
    assert lab("trace", "gauge", "ssh", "--json", code=1).json["broken"] == "lan-address"
    assert lab("trace", "gauge", "ssh", "--from", "host").code == 0
    world.run("switch", "ip", "link", "set", "host", "up")
    assert lab("status", "gauge").code == 0


QUAY = """\
[lab]
name = "quayside"
[network.quay]
kind = "bridge"
interface = "br0"
subnet = "192.0.2.0/24"
gateway = "192.0.2.1"
[guest.buoy]
@BOOT@
adapter = [{ network = "quay", address = "192.0.2.40" }]
door.ssh = { from = "lan" }
"""
BRIDGE = (
    "ip link add br0 type bridge forward_delay 400", "ip link set br0 up", "ip address flush dev eth0",
    "ip link set eth0 master br0", "ip address add 192.0.2.10/24 dev br0", "ip route replace default via 192.0.2.1",
)  # fmt: skip
# What disconnects a guest on a bridge of this host from the LAN, how it is undone, and what is said of it.
CUTS = (
    ("ip link set eth0 nomaster", "ip link set eth0 master br0", "br0 has no port that leads to a LAN"),
    ("ip link set eth0 down", "ip link set eth0 up", "eth0 is down"),
    ("bridge link set dev eth0 isolated on; bridge link set dev TAP isolated on",
     "bridge link set dev eth0 isolated off; bridge link set dev TAP isolated off", "eth0 are isolated ports"),
    ("ip link set br0 type bridge stp_state 1; ip link set eth0 nomaster; ip link set eth0 master br0",
     "ip link set br0 type bridge stp_state 0; ip link set eth0 nomaster; ip link set eth0 master br0",
     "eth0 does not forward, by the bridge's spanning tree"),
)  # fmt: skip


def test_what_disconnects_a_bridged_guest_from_the_lan_is_named(hosted: HostedLab) -> None:
    lab, world = hosted, hosted.world
    for command in BRIDGE:
        world.run("host", *command.split())
    lab.write(QUAY)
    lab("apply", timeout=300)
    assert world.greets("lan", "192.0.2.40", 22)
    tap = next(x for x in world.run("host", "ls", "/sys/class/net/br0/brif").split() if x != "eth0")
    for cut, undo, says in CUTS:
        world.run("host", "sh", "-ec", cut.replace("TAP", tap))
        found = lab("trace", "buoy", "ssh", "--json", code=1).json
        assert found["broken"] == "adapter" and says in found["hops"][-1]["seen"], (cut, found["hops"][-1])
        said = lab("status", code=1).out
        assert "not from the LAN: " in said and says in said, (cut, said)
        world.run("host", "sh", "-ec", undo.replace("TAP", tap))
        assert world.greets("lan", "192.0.2.40", 22), undo
    assert lab("trace", "buoy", "ssh").code == 0
