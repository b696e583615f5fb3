"""Guests' names on the LAN, found by another program's implementation of multicast DNS."""

from __future__ import annotations

import subprocess
import sys

import pytest

from tests.networks.test_places import PIER
from tests.networks.world import HostedLab, until

LAB = f"""\
[lab]
name = "real"
lan-names = true
{PIER}door.ssh = {{ from = "lan", port = 2220 }}
[guest.heron]
memory = "64 MiB"
adapter = [{{ network = "pier", address = "10.77.4.21" }}]
door.ssh = {{ from = "host", port = 2221 }}
"""
# It looks for a service by its registered name: its own name, host, address and port, one a line.
LOOK = """
import sys, time
from zeroconf import ServiceBrowser, Zeroconf
found = {}
class Heard:
    def add_service(self, zc, kind, name):
        info = zc.get_service_info(kind, name, timeout=3000)
        if info:
            print(name, info.server, ",".join(info.parsed_addresses()), info.port, flush=True)
    update_service = add_service
    def remove_service(self, zc, kind, name):
        print("gone", name, flush=True)
zc = Zeroconf(interfaces=["192.0.2.20"])
ServiceBrowser(zc, sys.argv[1], Heard())
time.sleep(float(sys.argv[2]))
zc.close()
"""
# It has a name, and defends it.
TAKEN = """
import socket, struct
from ipaddress import IPv4Address
from dacha.wire.dns.multicast_records import A, Record, encode, host_name
s = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
s.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
group, own = socket.inet_aton("224.0.0.251"), socket.inet_aton("192.0.2.20")
s.setsockopt(socket.IPPROTO_IP, socket.IP_ADD_MEMBERSHIP, group + own)
s.setsockopt(socket.IPPROTO_IP, socket.IP_MULTICAST_IF, own)
s.bind(("", 5353))
mine = encode(answers=[Record(host_name("gauge"), A, own, 120, True)])
print("up", flush=True)
while True:
    data, source = s.recvfrom(9000)
    if b"\\x05gauge\\x05local" in data and source[0] != "192.0.2.20":
        s.sendto(mine, ("224.0.0.251", 5353))
"""


def looked(lab: HostedLab, kind: str, seconds: float = 4.0) -> list[list[str]]:
    said = lab.world.run("lan", sys.executable, "-c", LOOK, f"{kind}.local.", str(seconds))
    return [line.split() for line in said.splitlines()]


@pytest.mark.parametrize("backend", ["kernel", pytest.param("user", marks=pytest.mark.whole)])
def test_a_guest_with_a_door_has_its_name_on_the_lan(hosted: HostedLab, backend: str) -> None:
    lab = hosted
    lab.write(LAB.replace("@BACKEND@", backend))
    lab("apply", "--no-wait")
    wanted = ["gauge._ssh._tcp.local.", "gauge.local.", "192.0.2.10", "2220"]
    until(lambda: wanted in looked(lab, "_ssh._tcp"), 60)
    assert [row for row in looked(lab, "_ssh._tcp") if "heron" in row[0]] == []
    assert any(row[-2:] == ["192.0.2.10", "8080"] for row in looked(lab, "_http._tcp"))
    # The port leads to the guest.
    assert lab.world.greets("lan", "192.0.2.10", 2220)
    # Applying something else does not interrupt it; this host's new address is announced.
    lab("guest", "edit", "heron", "--memory", "72MiB")
    lab("apply", "--no-wait")
    assert wanted in looked(lab, "_ssh._tcp")
    lab.world.run("host", "ip", "address", "del", "192.0.2.10/24", "dev", "eth0")
    lab.world.run("host", "ip", "address", "add", "192.0.2.11/24", "dev", "eth0")
    lab.world.run("host", "ip", "route", "replace", "default", "via", "192.0.2.1")
    until(lambda: any(row[2:] == ["192.0.2.11", "2220"] for row in looked(lab, "_ssh._tcp")), 60)
    # Without the key, the names are taken back.
    lab.write(LAB.replace("@BACKEND@", backend).replace("lan-names = true\n", ""))
    lab("apply", "--no-wait")
    until(lambda: looked(lab, "_ssh._tcp", 3.0) == [], 60)


def test_a_name_that_a_machine_has_is_left_to_it(hosted: HostedLab) -> None:
    lab = hosted
    other = subprocess.Popen(lab.world.inside("lan", sys.executable, "-c", TAKEN), stdout=subprocess.PIPE, text=True)
    try:
        assert other.stdout and other.stdout.readline() == "up\n"
        lab.write(LAB.replace("@BACKEND@", "kernel"))
        lab("apply", "--no-wait")

        def reported() -> bool:
            log = lab("caretaker", "status").out.partition("Its log: ")[2].split("\n")[0]
            with open(log) as f:
                return "another machine on the LAN uses the name gauge.local" in f.read()

        until(reported, 30)
    finally:
        other.kill()
        other.wait()
