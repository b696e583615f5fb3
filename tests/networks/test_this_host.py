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
