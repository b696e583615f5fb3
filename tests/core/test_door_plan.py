"""Doors become forwards; conflicts and doors that cannot be are refused."""

import pytest

from dacha.core.findings import errors
from dacha.core.lab.table.read import read_lab
from dacha.core.plan.plan import Plan, make_plan

HEAD = """\
[lab]
name = "lab"
[network.pier]
kind = "nat"
subnet = "10.77.4.0/24"
[network.vault]
kind = "host-only"
subnet = "10.77.9.0/24"
[network.quay]
kind = "bridge"
interface = "br0"
subnet = "172.20.8.0/24"
[guest.gauge]
adapter = [{ network = "vault", address = "10.77.9.10" }, { network = "pier", address = "10.77.4.20" }]
"""


def plan_of(doors: str, held: tuple[tuple[str, int], ...] = ()) -> Plan:
    reading = read_lab(HEAD + doors)
    assert reading.lab is not None and not reading.findings, reading.findings
    return make_plan(reading.lab, held_ports=held)


def forwards(plan: Plan, guest: str, door: str) -> list[str]:
    return [str(f) for f in plan.doors[guest, door].forwards()]


def test_a_door_from_the_lan_listens_everywhere_and_one_from_the_host_on_loopback() -> None:
    plan = plan_of(
        'door.ssh = { from = "lan", port = 2220 }\ndoor.http = { from = "host", port = 8080, network = "pier" }\n'
    )
    assert forwards(plan, "gauge", "ssh") == ["tcp 0.0.0.0:2220 → 10.77.4.20:22"]
    assert forwards(plan, "gauge", "http") == ["tcp 127.0.0.1:8080 → 10.77.4.20:80"]
    assert errors(plan.findings) == []


BRIDGED = '[guest.tower]\nadapter = [{ network = "quay", address = "172.20.8.7" }]\n'


def test_a_range_becomes_one_forward_a_port() -> None:
    plan = plan_of('door.video = { from = "lan", protocol = "udp", to = "5000-5002", port = "7000-7002" }\n')
    assert forwards(plan, "gauge", "video")[2] == "udp 0.0.0.0:7002 → 10.77.4.20:5002"
    assert len(forwards(plan, "gauge", "video")) == 3


def test_a_port_left_out_follows_from_the_address_and_avoids_what_is_held() -> None:
    door = 'door.ssh = { from = "lan" }\n'
    assert plan_of(door).chosen == {("guest", "gauge", "door", "ssh", "port"): "2220"}
    assert plan_of(door, (("tcp", 2220),)).chosen == {("guest", "gauge", "door", "ssh", "port"): "2221"}
    assert plan_of(door, (("udp", 2220),)).chosen == {("guest", "gauge", "door", "ssh", "port"): "2220"}


def test_a_chosen_range_is_whole_and_free() -> None:
    plan = plan_of('door.media = { from = "host", network = "pier", to = "9000-9003" }\n', (("tcp", 20022),))
    assert str(plan.doors["gauge", "media"].port) == "20023-20026"


def test_two_doors_on_one_port_are_refused_unless_they_listen_apart() -> None:
    same = 'door.ssh = { from = "lan", port = 2220 }\ndoor.web = { from = "lan", port = 2220, to = 80 }\n'
    (found,) = errors(plan_of(same).findings)
    assert found.code == "duplicate-port" and "door gauge ssh" in found.what
    apart = same.replace("port = 2220,", 'port = 2220, listen = "192.0.2.9",').replace(
        "port = 2220 }", 'port = 2220, listen = "192.0.2.8" }'
    )
    assert errors(plan_of(apart).findings) == []
    protocols = same.replace("to = 80", 'to = 80, protocol = "udp"')
    assert errors(plan_of(protocols).findings) == []


def test_overlapping_ranges_are_refused() -> None:
    doors = (
        'door.a = { from = "lan", port = "7000-7009", to = "1-10" }\ndoor.b = { from = "lan", port = 7009, to = 1 }\n'
    )
    assert [f.code for f in errors(plan_of(doors).findings)] == ["duplicate-port"]


@pytest.mark.parametrize(
    ("door", "code"),
    [
        ('door.ssh = { from = "lan", network = "vault" }', "door-isolation"),
        ('door.ssh = { from = "host", network = "pear" }', "door-network"),
        ('door.ssh = { from = "host", listen = "192.0.2.1" }', "listen-open"),
        ('door.ssh = { from = "lan", listen = "127.0.0.1" }', "listen-closed"),
        ('door.ssh = { from = "lan", allow = ["192.0.2.0/24"] }', "allow-user-mode"),
        ('[guest.bare]\ndoor.ssh = { from = "host" }', "door-no-adapter"),
        (BRIDGED + 'door.ssh = { from = "lan", allow = ["192.0.2.0/24"] }', "door-own"),
        (BRIDGED + 'door.ssh = { from = "lan", listen = "192.0.2.9" }', "door-own"),
        (BRIDGED + 'door.ssh = { from = "lan", port = 2220 }', "door-own"),
    ],
)
def test_a_door_that_cannot_be_is_refused_with_a_remedy(door: str, code: str) -> None:
    (found,) = errors(plan_of(door + "\n").findings)
    assert found.code == code and found.remedy


def test_a_door_on_a_bridge_is_the_guests_own_address() -> None:
    plan = plan_of(
        '[guest.tower]\nadapter = [{ network = "quay", address = "172.20.8.7" }]\ndoor.ssh = { from = "lan" }\n'
    )
    door = plan.doors["tower", "ssh"]
    assert door.means == "own" and door.forwards() == [] and door.port is None
    assert str(door.enter_at(None)) == "(IPv4Address('172.20.8.7'), 22)"


def test_a_host_door_takes_the_first_adapter_and_a_lan_door_the_first_that_may() -> None:
    plan = plan_of('door.ssh = { from = "host" }\ndoor.http = { from = "lan" }\n')
    assert "10.77.9.10" in forwards(plan, "gauge", "ssh")[0]
    assert "10.77.4.20" in forwards(plan, "gauge", "http")[0]
