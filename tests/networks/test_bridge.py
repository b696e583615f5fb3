"""Guests on the LAN itself: through a bridge of this host, and straight on one of its adapters."""

from __future__ import annotations

import subprocess
import sys
import time
from pathlib import Path

import pytest

from tests.networks.world import HostedLab, World

LAB = """\
[lab]
name = "real"
[network.quay]
kind = "bridge"
interface = "@INTERFACE@"
subnet = "192.0.2.0/24"
gateway = "192.0.2.1"
[guest.gauge]
@BOOT@
adapter = [{ network = "quay", address = "192.0.2.50" }]
door.ssh = { from = "lan" }
[guest.buoy]
@BOOT@
adapter = [{ network = "quay" }]
door.ssh = { from = "lan" }
"""
SSH = "SSH-2.0"


def addresses(world: World) -> list[str]:
    """Interface and addresses, line by line, whether it has a backend at this moment or not."""
    lines = world.run("host", "ip", "-4", "-brief", "address").splitlines()
    return [line.replace("DOWN", "UP").split()[0] + line[30:] for line in lines if "@" not in line or "/" in line]


def make_bridge(world: World) -> None:
    """The host's address moves to a bridge that its adapter is a port of, as an administrator would have it."""
    for command in (
        "ip link add br0 type bridge forward_delay 0", "ip link set eth0 master br0", "ip address flush dev eth0",
        "ip address add 192.0.2.10/24 dev br0", "ip link set br0 up", "ip route add default via 192.0.2.1",
    ):  # fmt: skip
        world.run("host", *command.split())


def blocked_by_this_host(lab: HostedLab) -> None:
    """What this host bridges passes its firewalls, too: that of the bridge, and that of IP where Linux is set so. This
    host's own connections do not."""
    world = lab.world
    for family, by_ip in (("bridge", 0), ("ip", 1)):
        world.run("host", "sysctl", "-qw", f"net.bridge.bridge-nf-call-iptables={by_ip}")
        chain = "{ type filter hook forward priority 0; policy drop; }"
        world.run("host", "nft", f"add table {family} fw; add chain {family} fw f {chain}")
        assert world.reads("lan", "192.0.2.50", 22, 2.0) == "silent" and world.greets("host", "192.0.2.50", 22)
        said = lab("trace", "gauge", "--json", code=1).json
        stop = said["hops"][-1]
        assert said["broken"] == "firewall" and f"policy of chain f of table {family} fw drops it" in stop["seen"]
        assert "another firewall blocks the LAN" in lab("status", code=1).out
        world.run("host", "nft", f"delete table {family} fw")
        assert lab("trace", "gauge", "--json").json["broken"] is None


def test_guests_on_a_bridge_are_machines_of_the_lan(hosted: HostedLab) -> None:
    lab, world = hosted, hosted.world
    make_bridge(world)
    before = addresses(world), world.run("host", "nft", "list", "ruleset")
    command = world.inside("router", sys.executable, Path(__file__).with_name("lan_dhcp.py"), lab.folder / "lan-leases")
    with subprocess.Popen(command, stdout=subprocess.PIPE, text=True) as server:
        try:
            assert server.stdout and server.stdout.readline() == "up\n"
            lab.write(LAB.replace("@INTERFACE@", "br0"))
            lab("apply")
            assert lab("diff").out == "real: everything applied\n"
            # By its own address from the LAN and from this host; its own way out; no door in between.
            assert world.greets("lan", "192.0.2.50", 22)
            assert world.greets("host", "192.0.2.50", 22)
            out = lab("status").out
            assert "192.0.2.50" in out and "open" in out
            # The other has its address from the LAN's own server, and Dacha serves none here; its door is where it is.
            assert "has the address 192.0.2.100" in lab("console", "buoy", "--record").out
            assert world.greets("other", "192.0.2.100", 22)
            assert "LAN 192.0.2.100:22" in out
            assert lab("connect", "buoy", "--", "hostname").out == "buoy\n"
            assert "serves no network" in lab("caretaker", "status").out
            blocked_by_this_host(lab)
        finally:
            server.kill()
    lab.file.write_text('[lab]\nname = "real"\n')
    lab("apply")
    assert (addresses(world), world.run("host", "nft", "list", "ruleset")) == before
    assert "gauge" not in world.run("host", "ip", "-brief", "link")


@pytest.mark.whole
def test_a_guest_straight_on_an_adapter_leaves_the_host_as_it_is(hosted: HostedLab) -> None:
    lab, world = hosted, hosted.world
    before = addresses(world)
    lab.write(LAB.replace("@INTERFACE@", "eth0").partition("[guest.buoy]")[0])
    # Somebody has the address already: the guest is not started, and the other is named.
    other = world.run("other", "cat", "/sys/class/net/eth0/address").strip()
    world.run("other", "ip", "address", "add", "192.0.2.50/24", "dev", "eth0")
    assert f"192.0.2.50 is already in use on quay, by {other}" in lab("apply", code=3).err
    assert lab("status", "--json").json["guests"][0]["state"] == "off"
    world.run("other", "ip", "address", "delete", "192.0.2.50/24", "dev", "eth0")
    said = lab("check").out
    assert "guests are directly on eth0: this host itself cannot reach them" in said
    lab("apply")
    deadline = time.monotonic() + 120
    while not world.reads("lan", "192.0.2.50", 22, 5.0).startswith(SSH):
        assert time.monotonic() < deadline, lab("console", "gauge", "--record").out[-500:]
    assert world.reads("host", "192.0.2.50", 22, 1.5) == "silent"
    assert "cannot be probed from here" in lab("status").out
    assert lab("address", "list", "--json").json["addresses"][0]["seen"] == "192.0.2.50"
    assert lab("diff").out == "real: everything applied\n"
    assert addresses(world) == before
    lab.file.write_text('[lab]\nname = "real"\n')
    lab("apply")
    assert "gauge" not in world.run("host", "ip", "-brief", "link")
    assert addresses(world) == before


def test_an_interface_that_cannot_do_it_is_refused_with_the_reason(hosted: HostedLab) -> None:
    lab, world = hosted, hosted.world
    lab.write(LAB.replace("@INTERFACE@", "eth7"))
    said = lab("check", code=1).out
    assert "this host has no interface eth7" in said and "it has: eth0" in said
    world.run("host", "ip", "link", "set", "eth0", "down")
    lab.file.write_text(lab.file.read_text().replace("eth7", "eth0"))
    assert "eth0 is down" in lab("apply", code=3).err
    world.run("host", "ip", "link", "set", "eth0", "up")
    lab.file.write_text(lab.file.read_text().replace('interface = "eth0"', 'interface = "eth0"\nvlan = 7'))
    said = lab("check", code=1).out
    assert "VLAN 7 cannot be used: this kernel does not support VLAN links" in said


def whole_state(world: World) -> tuple[str, str, str]:
    """Addresses and routes of the host, as they must come back: without what runs down by itself."""
    shown = (
        "-4 address show eth0 scope global",
        "-6 address show eth0 scope global",
        "route",
        "-6 route show dev eth0",
    )
    return "".join(world.run("host", "ip", *words.split()) for words in shown), *addresses(world)[:2]  # type: ignore[return-value]


@pytest.mark.whole
def test_a_bridge_over_the_hosts_own_adapter_has_a_way_back(hosted: HostedLab) -> None:
    lab, world = hosted, hosted.world
    before = whole_state(world)
    text = LAB.partition("[guest.buoy]")[0].replace('"@INTERFACE@"', '"br7"\nmade-from = "eth0"')
    lab.write(text)
    said = lab("check").out
    assert "eth0 carries this host's 192.0.2.10/24" in said and "dacha apply --confirm" in said
    for said in ("soon", "nan", "9 h", "0"):
        lab.env["DACHA_BACK_AFTER"] = said
        assert f"DACHA_BACK_AFTER is not a duration: {said}" in lab("apply", "--no-wait", code=2).err
        assert "192.0.2.10/24" in world.run("host", "ip", "address", "show", "eth0")
    # Nobody confirms it: all is as before, though the command has long ended.
    lab.env["DACHA_BACK_AFTER"] = "12"
    said = lab("apply", "--no-wait").out
    assert "created bridge br7 over eth0" in said and "dacha apply --confirm" in said
    assert "192.0.2.10/24" in world.run("host", "ip", "address", "show", "br7")
    assert world.run("host", "ping", "-c1", "-W2", "198.51.100.1").count(" 0% packet loss")
    deadline = time.monotonic() + 120
    while "br7" in world.run("host", "ip", "-brief", "link"):
        assert time.monotonic() < deadline
        time.sleep(0.2)
    assert whole_state(world) == before
    assert "nothing waits to be confirmed" in lab("apply", "--confirm", code=1).err
    # Confirmed in time it stays; the guest is a machine of the LAN, and this host reaches it too.
    moved = time.monotonic()
    lab("apply", "--no-wait")
    assert "br7 is kept" in lab("apply", "--confirm").out
    lab("apply")
    assert world.greets("lan", "192.0.2.50", 22) and world.greets("host", "192.0.2.50", 22)
    time.sleep(max(0.0, moved + 14 - time.monotonic()))
    assert lab("diff").out == "real: everything applied\n"
    lab.file.write_text('[lab]\nname = "real"\n')
    lab("apply")
    assert whole_state(world) == before
