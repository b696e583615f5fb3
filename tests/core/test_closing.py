"""What ends with a door or a key, and what is said of guests that are not confined: as plain values."""

from __future__ import annotations

from ipaddress import IPv4Address

from hypothesis import given
from hypothesis import strategies as st

from dacha.core.lab.table.read import read_lab
from dacha.core.network.confinement import Confinement
from dacha.core.network.door_ways import Closed, read_way, ways
from dacha.core.network.links import BridgeLink, Ports, TapLink, kernel_plan
from dacha.core.network.marks import DEVICES_MOST, DOWN, IP, UP, drop_filter
from dacha.core.network.rules import ruleset
from dacha.core.people.sessions_inside import fingerprint, read_ended, read_strangers, strangers_among
from dacha.core.plan.plan import Plan, make_plan
from dacha.formats import openssh

LAB = """\
[lab]
name = "real"
[network.pier]
kind = "nat"
backend = "kernel"
subnet = "10.77.4.0/22"
[guest.gauge]
adapter = [{ network = "pier", address = "10.77.4.20" }]
door.ssh = { from = "lan", port = 2220, allow = ["192.0.2.0/24"] }
door.http = { from = "host", port = 8080 }
"""
LAN, HERE, GAUGE = IPv4Address("192.0.2.20"), IPv4Address("192.0.2.10"), IPv4Address("10.77.4.20")
KEY = openssh.key_pair(b"k" * 32, "mara@pier")[1].strip()


def plan(text: str) -> Plan:
    reading = read_lab(text)
    assert reading.lab and not reading.findings
    return make_plan(reading.lab)


def test_a_connection_ends_with_its_door_or_with_who_may_enter_it() -> None:
    before = ways(plan(LAB))
    assert [w.name for w in before] == ["ssh", "http"] and read_way("gauge ssh 0 1 1 2 3") is None
    for after, ended in (
        (LAB, False),
        (LAB.replace('door.ssh = { from = "lan", port = 2220, allow = ["192.0.2.0/24"] }\n', ""), True),
        (LAB.replace('"192.0.2.0/24"', '"192.0.2.0/28"'), True),
        (LAB.replace('"192.0.2.0/24"', '"192.0.2.16/28"'), False),
        (LAB.replace("port = 2220", "port = 2221"), True),
        (LAB.replace("10.77.4.20", "10.77.4.21"), True),
    ):
        now = ways(plan(after))
        closed = Closed([w for w in before if w not in now], now)
        door = closed.door_of("tcp", LAN, HERE, 2220, GAUGE, 22)
        assert door == (("gauge", "ssh") if ended else None), after
        # Others' connections are none of ours: to another port, to another machine.
        assert closed.door_of("tcp", LAN, HERE, 2225, GAUGE, 22) is None
        assert closed.door_of("tcp", LAN, HERE, 2220, LAN, 22) is None


def test_what_is_missing_is_said_with_its_guests_and_networks() -> None:
    seen = Confinement(("pier",), ("gauge", "charts"))
    assert seen.sound and not seen.open and seen.what() == ""
    missing = seen._replace(missing=("inet dacha_real",))
    assert not missing.sound and not missing.open and "network pier" in missing.means()
    both = missing._replace(unfiltered=("d1",))
    assert both.open and "gauge, charts: not confined" in both.means() and "drop filter of d1" in both.what()
    assert seen._replace(changed=True).open and not seen._replace(unfiltered=("d1",)).open


def test_every_link_has_its_filter_and_every_tap_its_mark() -> None:
    names = "".join(
        f'[guest.g{n}]\nadapter = [{{ network = "pier", address = "10.77.{5 + n // 250}.{1 + n % 250}" }}]\n'
        for n in range(DEVICES_MOST + 50)
    )
    reading = read_lab(LAB + names)
    assert reading.lab
    made = make_plan(reading.lab)
    links = kernel_plan(reading.lab, made)
    for link in links.links.values():
        found = drop_filter(link)
        assert found and isinstance(link, BridgeLink | TapLink)
        bits = UP | IP if isinstance(link, BridgeLink) else DOWN | IP
        assert found[0] == ("ingress" if isinstance(link, BridgeLink) else "egress") and f"0 1 {bits}," in found[1]
    text = ruleset(reading.lab, made, links)
    assert "chain from_taps0 {" in text and "chain from_taps1 {" in text and "@plugged" not in text
    # A link that does not exist (yet) would let the whole load fail.
    one = links.taps()[0].name
    text = ruleset(reading.lab, made, links, (4,), Ports(frozenset({one}), ("m0",), ("docker0",)))
    assert f'devices = {{ "{one}" }}' in text and 'elements = { "m0" }' in text and "from_taps1" not in text
    assert 'fib daddr oifname { "docker0" }' in text


def test_keys_are_told_apart_and_named() -> None:
    blob = KEY.split()[1]
    assert fingerprint(blob) == openssh.fingerprint(KEY)
    other = openssh.key_pair(b"o" * 32, "left@behind")[1].strip()
    text = f'# a comment\n{KEY}\nfrom="192.0.2.1",no-pty {other}\n'
    (found,) = strangers_among(text, [KEY])
    assert str(found) == f"{openssh.fingerprint(other)} (left@behind)" and strangers_among(text, None) == []
    said = f"strange ops /home/ops/.ssh/authorized_keys {other.split()[1]} left\x1b[2J\nended ops 2\nended ops x\n"
    (stranger,) = read_strangers(said)
    assert stranger.account == "ops" and "\x1b" not in str(stranger) and stranger.tail in stranger.remedy()
    assert read_ended(said) == {"ops": 2}


@given(st.text(max_size=300))
def test_any_answer_is_read(text: str) -> None:
    read_ended(text)
    read_strangers(text)
    strangers_among(text, [KEY])
