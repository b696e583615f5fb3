"""Causes on the guest's side of the path: its firewall, routes, neighbour entries, MTU, and what its server says."""

from __future__ import annotations

import json

import pytest
from hypothesis import given
from hypothesis import strategies as st

from dacha.core.heard import Heard
from dacha.core.network.firewall.matches import Packet
from dacha.core.network.firewall.words import rule_words
from dacha.core.trace.hop import BROKEN
from dacha.core.trace.judge import broken, judge
from dacha.core.trace.outward import judge as judge_outward
from dacha.core.trace.seen.evidence import Evidence
from dacha.core.trace.seen.inside import Inside
from dacha.core.trace.seen.outward import TIMED_OUT
from dacha.core.trace.seen.own_rules import blocking, read_rules
from dacha.core.trace.seen.results import OPEN, REFUSED, SILENT, ConnectResult, accepted
from dacha.core.trace.seen.ways import read_way, way_to
from dacha.wire.probes import SshProbe
from tests.core.evidence import but
from tests.core.test_inside import rules, told
from tests.core.test_outward import FINE as OUTWARD
from tests.core.test_trace import KERNEL, LINK, SSH, USER

SYN = Packet(4, "eth0", None, "10.77.4.1", "10.77.4.20", "tcp", 22)
HERE = "02:74:8a:62:28:20"
SILENT_HERE = but(KERNEL,
    direct=ConnectResult(SILENT), through=ConnectResult(SILENT), gateway="10.77.4.1", agent_runs=True,
    carried=LINK._replace(hardware=HERE), prefix=24,
)  # fmt: skip
SILENT_USER = but(USER, through=ConnectResult(SILENT), gateway="10.77.4.1", agent_runs=True, prefix=24)
# Values in the form of a listing, with anything in it.
_KEYS = (
    "nftables", "chain", "rule", "expr", "match", "left", "right", "op", "payload", "meta", "key", "hook", "family",
    "table", "name", "prio", "policy", "handle", "drop", "jump", "set", "prefix", "elem", "target", "type",
)  # fmt: skip
MADE_UP = st.recursive(
    st.none() | st.booleans() | st.integers() | st.text(max_size=8),
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.sampled_from(_KEYS), inner, max_size=4),
    max_leaves=20,
)
ENTRY = "10.77.4.1 0x1 0x{flags} {hardware} * eth0"


def stopped(e: Evidence, inside: Inside) -> str:
    """The broken hop, all that it says."""
    hop = broken(judge(but(e, inside=inside)))
    return " ".join(filter(None, hop)) if hop else ""


@pytest.mark.parametrize("e", [SILENT_HERE, SILENT_USER])
@pytest.mark.parametrize(
    ("way", "words"),
    [
        ("blackhole 192.0.2.0/24", "192.0.2.10 is: blackhole 192.0.2.0/24 this route discards its replies"),
        ("192.0.2.0/24 via 10.77.4.9 dev eth0", "this route leads its replies elsewhere"),
    ],
)
def test_a_route_of_the_guest_that_its_replies_do_not_come_back_by(e: Evidence, way: str, words: str) -> None:
    inside = told(way=way)
    if e.way == "kernel":
        e = but(e, direct=SSH, through=SSH, reply=ConnectResult(SILENT))
    said = stopped(e, inside)
    assert words in said and "ip route del " + way in said


SAVED = """\
saved ip *{table}
saved ip :PREROUTING ACCEPT [0:0]
saved ip :POSTROUTING ACCEPT [0:0]
saved ip {rule}
saved ip COMMIT
saved ip *filter
saved ip :ufw-user-input - [0:0]
saved ip COMMIT
"""


@pytest.mark.parametrize(
    ("table", "rule", "hook", "words"),
    [
        ("raw", "-A PREROUTING -p tcp -m tcp --dport 22 -j DROP", "input", "tcp dport 22 drop, chain PREROUTING"),
        ("mangle", "-A POSTROUTING -p tcp -m tcp --sport 22 -j DROP", "output", "tcp sport 22 drop, chain POSTROUTING"),
    ],
)
def test_rules_of_the_guest_outside_its_filter_table(table: str, rule: str, hook: str, words: str) -> None:
    """They are not its manager's: its commands do not change them."""
    there = read_rules(SAVED.format(table=table, rule=rule).splitlines())
    packet = SYN if hook == "input" else SYN._replace(state="established", dport=None, sport=22)
    found = blocking(there, packet, hook)
    assert found and found.sure and words in found.words and found.owner == "iptables" and found.table == table


def test_a_wrong_default_route_is_replaced_not_deleted() -> None:
    said = stopped(SILENT_USER, told(way="default via 10.77.4.99 dev eth0"))
    assert "leads its replies elsewhere" in said and "ip route replace default via 10.77.4.1" in said


def test_in_user_mode_replies_to_others_need_a_default_route() -> None:
    said = stopped(SILENT_USER, told(route="", way="10.77.4.0/24 dev eth0"))
    assert "no route for 192.0.2.10" in said and "ip route replace default via 10.77.4.1" in said
    # A connection from this host's loopback comes from the gateway, and needs none.
    said = stopped(but(SILENT_USER, on_loopback=True), told(route="", way="10.77.4.0/24 dev eth0"))
    assert "no route" not in said and "one of: " in said


def test_a_wrong_neighbour_entry_is_named() -> None:
    said = stopped(SILENT_HERE, told(arp=ENTRY.format(flags=6, hardware="02:00:00:00:00:99")))
    assert "at the hardware address 02:00:00:00:00:99, set by hand" in said and "ip neighbour del 10.77.4.1" in said
    for right in (ENTRY.format(flags=2, hardware=HERE), ENTRY.format(flags=0, hardware="00:00:00:00:00:00")):
        said = stopped(SILENT_HERE, told(arp=right))
        assert "although the guest reports that a program listens there one of: " in said


def test_replies_that_its_firewall_drops() -> None:
    inside = told(ruleset=rules("accept", "drop", hook="output"))
    assert "firewall blocks its replies: drop, chain output" in stopped(SILENT_HERE, inside)
    inside = told(ruleset=rules("accept", "tcp sport 22 drop", hook="output"))
    assert "firewall blocks its replies: tcp sport 22 drop" in stopped(SILENT_HERE, inside)
    inside = told(ruleset=rules("accept", "tcp sport 22 meta mark 7 drop", hook="output"))
    assert "one of: the guest's firewall drops its replies (tcp sport 22 meta mark" in stopped(SILENT_HERE, inside)
    inside = told(ruleset=rules("accept", "ct state established accept", "drop", hook="output"))
    assert "its replies (" not in stopped(SILENT_HERE, inside)


def test_where_large_packets_are_lost() -> None:
    e = but(KERNEL, sizes=(576,), agent_runs=True)
    assert "one of: a link on the path has a smaller MTU" in stopped(e, told())
    said = stopped(e, told(adapter="eth0 0x1003 02:00:00:00:00:20 576"))
    assert "MTU of its link eth0 is 576" in said and "ip link set eth0 mtu 1500" in said
    said = stopped(e, told(ruleset=rules("accept", "meta length > 700 drop")))
    assert "one of: the guest's firewall drops them (meta length > 700 drop" in said


def test_a_link_with_another_hardware_address_or_without_arp() -> None:
    e = but(SILENT_HERE, answered=(), seen_address=None)
    said = stopped(e, told(adapter="eth0 0x1003 02:00:00:00:00:77"))
    assert "ip link set eth0 address 02:00:00:00:00:20" in said
    assert "ip link set eth0 arp on" in stopped(e, told(adapter="eth0 0x1083 02:00:00:00:00:20", inet=INET))


INET = "2: eth0    inet 10.77.4.20/24 brd 10.77.4.255 scope global eth0"


def test_a_port_whose_server_runs_is_not_one_without_a_server() -> None:
    refused = but(KERNEL, direct=ConnectResult(REFUSED), through=ConnectResult(REFUSED), agent_runs=True)
    said = stopped(refused, told())
    assert "although the guest reports that a program listens there one of: " in said and "no program" not in said
    again = judge(but(KERNEL, returned=True))
    assert any("a moment ago it refused" in hop.seen for hop in again)


def test_in_user_mode_a_firewall_that_rejects_is_told_from_a_server_that_closes() -> None:
    closed = but(USER, through=accepted(Heard.CLOSED), agent_runs=True, gateway="10.77.4.1")
    said = stopped(closed, told(ruleset=rules("accept", "tcp dport 22 reject with tcp reset")))
    assert said.startswith("service") and "firewall blocks it: tcp dport 22 reject with tcp reset" in said
    said = stopped(closed, told())
    assert said.startswith("protocol") and "one of: " in said and "; a firewall in the guest answers with a" in said


def test_what_a_server_says_before_it_closes_is_heard() -> None:
    probe = SshProbe()
    assert probe.receive(b"Not allowed at this time\r\n") is None
    verdict = probe.closed()
    assert verdict.heard == Heard.TURNED_AWAY and verdict.seen == 'says "Not allowed at this time", and closes'
    closed = ConnectResult(OPEN, False, verdict.seen, heard=verdict.heard)
    e = but(KERNEL, direct=closed, through=closed, agent_runs=True)
    assert "one of: it has too many clients" in stopped(but(e, agent_runs=None), Inside())
    said = stopped(e, told(log="drop connection #1 from [10.77.4.1]:4 past Maxstartups"))
    assert "its server's log: drop connection #1" in said
    assert SshProbe().closed().heard == Heard.CLOSED
    assert broken(judge(but(e, direct=accepted(Heard.CLOSED), through=accepted(Heard.CLOSED), inside=told())))


@pytest.mark.parametrize(
    ("lines", "verdict", "words"),
    [
        (("drop", "tcp dport 443 accept"), BROKEN, "policy drop, chain output"),
        (("accept", "tcp dport 80 drop"), BROKEN, "nft insert rule inet t output tcp dport 80 accept"),
        (("accept", "ip daddr 192.0.2.0/24 reject"), BROKEN, "ip daddr 192.0.2.0/24 reject"),
        (("accept", "meta skuid 0 drop"), None, "is not certain: "),
        (("accept", "tcp dport 25 drop"), None, "they let it out"),
    ],
)
def test_the_guests_own_rules_may_keep_it_in(lines: tuple[str, ...], verdict: str | None, words: str) -> None:
    out = OUTWARD._replace(tried=TIMED_OUT, inside=told(ruleset=rules(*lines, hook="output")), hardware="")
    hops = {hop.name: hop for hop in judge_outward(out)}
    hop = hops["own-rules"]
    assert (hop.verdict == BROKEN) == (verdict == BROKEN) and words in " ".join(map(str, hop))


def test_the_most_special_route_counts() -> None:
    ways = [read_way(x) for x in ("default via 10.77.4.1 dev eth0", "10.77.4.0/24 dev eth0 scope link",
                                  "unreachable 192.0.2.0/25", "192.0.2.0/24 via 10.77.4.9")]  # fmt: skip
    assert str(way_to(ways, "192.0.2.10")) == "unreachable 192.0.2.0/25"
    assert str(way_to(ways, "192.0.2.200")) == "192.0.2.0/24 via 10.77.4.9"
    assert str(way_to(ways, "198.51.100.1")) == "default via 10.77.4.1 dev eth0"
    assert way_to(ways[1:], "198.51.100.1") is None


@given(MADE_UP)
def test_rules_that_a_guest_makes_up_explain_nothing(said: object) -> None:
    found = read_rules([f"ruleset {json.dumps({'nftables': said})}", f"saved ip {said}", "saved ip -A INPUT -j"])
    blocking(found, SYN)
    chain = {"family": "ip", "table": "t", "name": "i", "hook": "input", "type": "filter"}
    rule = {"family": "ip", "table": "t", "chain": "i", "handle": 1, "expr": said}
    blocking({"nftables": [{"chain": chain}, {"rule": rule}]}, SYN)


def test_names_that_a_guest_gives_its_chains_are_no_commands() -> None:
    """A table with an escape sequence, or with a command, in its name: it is shown as text, and is in no remedy."""
    listed = [{"chain": {"family": "inet", "table": "t\x1b[2J; reboot", "name": "i", "hook": "input", "type": "filter",
                         "prio": 0, "policy": "drop"}}]  # fmt: skip
    said = stopped(SILENT_HERE, told(ruleset=json.dumps({"nftables": listed})))
    assert "policy drop, chain i of table" in said and "\x1b" not in said
    assert said.endswith("dacha connect gauge --by agent -- 'nft list ruleset'")


def test_rules_are_shown_in_the_words_of_nft() -> None:
    match = {"match": {"op": "!=", "left": {"payload": {"protocol": "ip", "field": "saddr"}},
                       "right": {"set": [{"prefix": {"addr": "10.0.0.0", "len": 8}}, "192.0.2.1"]}}}  # fmt: skip
    assert rule_words([match, {"counter": None}, {"jump": {"target": "in_lan"}}]) == (
        "ip saddr != { 10.0.0.0/8, 192.0.2.1 } jump in_lan"
    )
    assert rule_words([{"match": {"left": {"ct": {"key": "state"}}, "right": "new"}}, {"reject": None}]) == (
        "ct state new reject"
    )
    assert rule_words([{"xt": {"name": "comment"}}, {"drop": None}]) == "… drop"


@pytest.mark.parametrize(
    ("changed", "words"),
    [
        ({"ruleset": rules("accept", "ip saddr 192.0.2.30 drop")}, "firewall drops packets from 192.0.2.30: ip saddr"),
        ({"ruleset": rules("accept", "ip saddr { 192.0.2.30, 192.0.2.77 } reject")}, "firewall drops packets from"),
        ({"ruleset": rules("accept", "ip daddr 192.0.2.30 drop", hook="output")}, "drops its replies to 192.0.2.30"),
        ({"way": "unreachable 192.0.2.30/32"}, "its route for 192.0.2.30 is: unreachable 192.0.2.30/32"),
        ({"ruleset": rules("accept", "ip saddr 192.0.2.77 drop")}, ""),
    ],
)
def test_a_client_that_the_guest_itself_keeps_out(changed: dict[str, str], words: str) -> None:
    e = but(KERNEL, asker="192.0.2.30", gateway="10.77.4.1", agent_runs=True, lan_address="192.0.2.10", prefix=24)
    said = stopped(e, told(**changed))
    assert (said.startswith("sources broken the door allows every client; ") and words in said) if words else not said
    assert not stopped(but(e, origin="host"), told(**changed)), "the guest does not see its address"
    # On a LAN, whose router Dacha does not know, each router is right.
    assert not stopped(but(e, gateway="", way="own"), told(way="default via 10.77.4.254 dev eth0"))
