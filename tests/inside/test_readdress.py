"""The scripts that change an address inside a guest, with the real programs in namespaces of their own."""

from __future__ import annotations

import subprocess
from collections.abc import Iterator
from ipaddress import IPv4Address, IPv6Address
from pathlib import Path

import pytest

from dacha.core.inside import readdress
from dacha.core.inside.readdress import Answers, Move, read_answers
from tests.networks.world import until

MAC = "52:54:00:12:34:56"
MOVE = Move(MAC, IPv4Address("10.77.4.21"), IPv4Address("10.77.4.30"), 24)
INTERFACES = """\
# 10.77.4.21 was chosen by hand; 110.77.4.21 and 10.77.4.210 are others.
iface tide0 inet static
  address 10.77.4.21/24
  gateway 10.77.4.1
"""
YAML = "network:\n  ethernets:\n    tide0:\n      addresses: [10.77.4.21/24,10.77.4.21/32]\n"


class System:
    """A system with one adapter, in namespaces of network, mounts and processes."""

    def __init__(self, etc: Path) -> None:
        self.etc = etc
        (etc / "network").mkdir(parents=True)
        (etc / "netplan").mkdir()
        (etc / "network/interfaces").write_text(INTERFACES)
        (etc / "netplan/50-lab.yaml").write_text(YAML)
        self.holder = subprocess.Popen(
            ["unshare", "-nmp", "--fork", "--mount-proc", "--kill-child", "sleep", "600"], stdout=subprocess.DEVNULL
        )
        self.pid = 0
        while not self.pid:
            children = Path(f"/proc/{self.holder.pid}/task/{self.holder.pid}/children").read_text().split()
            if children and Path(f"/proc/{children[0]}/comm").read_text().strip() == "sleep":
                self.pid = int(children[0])
        self.run(
            f"mount --bind {etc} /etc && mount -t tmpfs tmpfs /run && mount -t sysfs sysfs /sys && "
            f"ip link add tide0 address {MAC} type veth peer name far0 && ip link set tide0 up && "
            "ip link set far0 up && "
            "ip address add 10.77.4.21/24 brd + dev tide0 && ip route add default via 10.77.4.1 dev tide0 metric 100 "
            "src 10.77.4.21 && ip route add 192.0.2.0/24 via 10.77.4.9"
        )

    def run(self, script: str) -> str:
        done = subprocess.run(
            ["nsenter", "-t", str(self.pid), "-n", "-m", "-p", "sh"], input=script, capture_output=True, text=True,
            check=False, timeout=60,
        )  # fmt: skip
        assert done.returncode == 0, done
        return done.stdout

    def answers(self, script: str) -> Answers:
        found = read_answers(self.run(script))
        assert found
        return found

    @property
    def addresses(self) -> list[str]:
        return [line.split()[3] for line in self.run("ip -4 -o address show dev tide0").splitlines()]

    @property
    def left(self) -> str:
        return self.run("ls /run | grep address || true")

    @property
    def files(self) -> tuple[str, str]:
        return (self.etc / "network/interfaces").read_text(), (self.etc / "netplan/50-lab.yaml").read_text()

    def close(self) -> None:
        self.holder.kill()
        self.holder.wait()


@pytest.fixture
def system(tmp_path: Path) -> Iterator[System]:
    made = System(tmp_path / "etc")
    yield made
    made.close()


def test_a_confirmed_address_replaces_the_old_one_in_the_system_and_its_configuration(system: System) -> None:
    begun = system.answers(readdress.begin("a1", [MOVE], 60))
    assert begun.state == "begun" and begun.unwritten == (), begun
    assert set(begun.written) == {"/etc/network/interfaces", "/etc/netplan/50-lab.yaml"}
    assert system.addresses == ["10.77.4.21/24", "10.77.4.30/24"]
    assert system.answers(readdress.confirm("a1", [MOVE])).state == "confirmed"
    until(lambda: system.addresses == ["10.77.4.30/24"] and system.left == "")
    routes = system.run("ip -4 route")
    # Routes that began at the old address are still there.
    assert "default via 10.77.4.1 dev tide0 metric 100" in routes and "192.0.2.0/24 via 10.77.4.9" in routes
    interfaces, netplan = system.files
    assert interfaces == INTERFACES.replace("# 10.77.4.21 was", "# 10.77.4.30 was").replace(
        "10.77.4.21/", "10.77.4.30/"
    )
    assert netplan == YAML.replace("10.77.4.21", "10.77.4.30")
    assert system.left == ""
    # A command that was killed before it read the answer asks again; what is confirmed is not taken back.
    assert system.answers(readdress.confirm("a1", [MOVE])).state == "confirmed"
    assert system.answers(readdress.back("a1")).state == "gone" and system.addresses == ["10.77.4.30/24"]


def test_addresses_of_both_families_change_together(system: System) -> None:
    system.run("ip address add fd00:4::21/64 dev tide0 nodad")
    (system.etc / "netplan/50-lab.yaml").write_text("addresses: [10.77.4.21/24, 'fd00:4::21/64', 'fd00:4::21:1/64']\n")
    six = Move(MAC, IPv6Address("fd00:4::21"), IPv6Address("fd00:4::30"), 64)
    assert system.answers(readdress.begin("a1", [MOVE, six], 60)).state == "begun"
    assert system.answers(readdress.confirm("a1", [MOVE, six])).state == "confirmed"
    until(lambda: system.addresses == ["10.77.4.30/24"] and system.left == "")
    shown = system.run("ip -6 -o address show dev tide0")
    assert "fd00:4::30/64" in shown and "fd00:4::21/64" not in shown
    assert system.files[1] == "addresses: [10.77.4.30/24, 'fd00:4::30/64', 'fd00:4::21:1/64']\n"


def test_an_address_that_is_not_confirmed_in_time_goes_back(system: System) -> None:
    assert system.answers(readdress.begin("a1", [MOVE], 1)).state == "begun"
    until(lambda: system.addresses == ["10.77.4.21/24"] and system.left == "")
    assert system.files == (INTERFACES, YAML)
    assert system.answers(readdress.confirm("a1", [MOVE])).state == "gone"


def test_it_is_taken_back_at_once_and_a_later_change_is_not(system: System) -> None:
    assert system.answers(readdress.begin("a1", [MOVE], 1)).state == "begun"
    assert system.answers(readdress.back("a1")).state == "back"
    until(lambda: system.left == "")
    assert system.addresses == ["10.77.4.21/24"] and system.files == (INTERFACES, YAML)
    # The first one's process ends in a second; it must not touch the second one.
    assert system.answers(readdress.begin("a2", [MOVE], 60)).state == "begun"
    system.run("sleep 1.5")
    assert system.answers(readdress.confirm("a2", [MOVE])).state == "confirmed"
    until(lambda: system.addresses == ["10.77.4.30/24"])


def test_a_change_that_was_taken_back_before_it_began_does_not_begin(system: System) -> None:
    assert system.answers(readdress.back("a1")).state == "gone"
    assert system.answers(readdress.begin("a1", [MOVE], 60)).state == "failed"
    assert system.addresses == ["10.77.4.21/24"] and system.files == (INTERFACES, YAML)
    assert system.answers(readdress.begin("a2", [MOVE], 60)).state == "begun"


@pytest.mark.parametrize(
    ("before", "why"),
    [
        ("ip address del 10.77.4.21/24 dev tide0", "no adapter with hardware address"),
        ("ip link set tide0 address 52:54:00:00:00:01", "no adapter with hardware address"),
        ("ip address change 10.77.4.21/24 dev tide0 valid_lft 3600 preferred_lft 3600", "it has 10.77.4.21 by DHCP"),
        ("ip address add 10.77.4.30/24 dev tide0", ""),
    ],
)
def test_a_system_that_is_another_keeps_what_it_has(system: System, before: str, why: str) -> None:
    system.run(before)
    had = system.addresses
    said = system.answers(readdress.begin("a1", [MOVE], 60))
    assert said.state == "failed" and why in said.why
    assert system.addresses == had and system.files == (INTERFACES, YAML) and system.left == ""


def test_without_any_configuration_of_it_that_is_told(system: System) -> None:
    (system.etc / "network/interfaces").write_text("auto lo\n")
    (system.etc / "netplan/50-lab.yaml").unlink()
    assert system.answers(readdress.begin("a1", [MOVE], 60)).unwritten == ("10.77.4.21",)


def test_half_a_script_does_nothing_and_half_an_answer_is_none(system: System) -> None:
    text = readdress.begin("a1", [MOVE], 60)
    for length in range(0, len(text) - 6, 997):
        subprocess.run(
            ["nsenter", "-t", str(system.pid), "-n", "-m", "-p", "sh"], input=text[:length], capture_output=True,
            text=True, check=False, timeout=60,
        )  # fmt: skip
    assert system.addresses == ["10.77.4.21/24"] and system.files == (INTERFACES, YAML)
    assert read_answers("address begun\n") is None
    assert read_answers("address denied\naddress end\n") == Answers("denied")
    # A guest may answer anything.
    lied = read_answers(f"address failed \x1b[2Jx{'y' * 900}\naddress end\n")
    assert lied and "\x1b" not in lied.why and len(lied.why) <= 200
    assert read_answers("address end\n") == Answers("failed", "its answer is not complete")
