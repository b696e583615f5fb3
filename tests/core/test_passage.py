"""The whole way of a connection through this host: what drops it anywhere, and the verdicts that follow."""

from __future__ import annotations

from typing import Any

import pytest

from dacha.core.network.firewall.iptables import entries
from dacha.core.network.firewall.passage import Flow, Links, first_stop, from_guest, from_this_host, through
from dacha.core.network.firewall.walk import Rules, untracked_by
from dacha.core.trace.hop import BROKEN, UNTESTED, Hop
from dacha.core.trace.judge import broken, judge
from dacha.core.trace.missing import wanted
from dacha.core.trace.seen.results import SILENT, ConnectResult, Dropped, RouteSeen, Unforwarded
from tests.core.evidence import but
from tests.core.test_firewall import packet
from tests.core.test_trace import KERNEL, LINK, USER

LINKS = Links("eth0", "br", "tap")
DOOR = Flow(4, "tcp", None, "192.0.2.10", 2220, "10.77.4.20", 22)
HERE = Flow(4, "tcp", None, None, 0, "10.77.4.20", 22)


def match(left: dict[str, Any], right: Any, op: str = "==") -> dict[str, Any]:
    return {"match": {"op": op, "left": left, "right": right}}


def field(name: str, header: str = "tcp") -> dict[str, Any]:
    return {"payload": {"protocol": header, "field": name}}


def rules(hook: str, *expressions: dict[str, Any], family: str = "ip", priority: int = 0, **more: Any) -> Rules:
    """One chain with one rule, and named sets."""
    place = {"family": family, "table": "fw"}
    chain = place | {"name": "c", "hook": hook, "prio": priority, "type": "filter", "policy": "accept"} | more
    named = {"set": place | {"name": "known", "elem": ["10.77.4.20", {"elem": {"val": "192.0.2.9", "timeout": 9}}]}}
    rule = {"rule": place | {"chain": "c", "handle": 2, "expr": list(expressions)}}
    return Rules({"nftables": [named, {"chain": chain}, rule]})


DROP = {"drop": None}


@pytest.mark.parametrize(
    ("said", "hook", "back"),
    [
        (rules("prerouting", match(field("dport"), 2220), DROP, priority=-150), "prerouting", False),
        (rules("prerouting", match(field("dport"), 22), DROP, priority=-150), None, False),
        (rules("prerouting", match(field("dport"), 22), DROP, priority=-90), "prerouting", False),
        (rules("forward", match(field("daddr", "ip"), "@known"), DROP), "forward", False),
        (rules("forward", match(field("daddr", "ip"), "@unknown"), DROP), None, False),
        (rules("forward", match(field("dport", "udp"), 53, "!="), DROP), None, False),
        (rules("forward", match(field("sport"), 22), DROP), "forward", True),
        (rules("forward", match({"ct": {"key": "state"}}, "established"), match(field("dport"), 22), DROP), "forward",
         False),
        (rules("forward", {"limit": {"rate": 3}}, DROP), None, False),
        (rules("forward", {"vmap": {"key": field("dport"), "data": {"set": [[22, DROP]]}}}), "forward", False),
        (rules("forward", {"vmap": {"key": field("dport"), "data": {"set": [[80, DROP]]}}}), None, False),
        (rules("forward", match({"concat": [field("daddr", "ip"), field("dport")]},
                                {"set": [{"concat": ["10.77.4.20", 22]}]}), DROP), "forward", False),
        (rules("output", match(field("daddr", "ip"), "10.77.4.20"), DROP, family="bridge"), "output", False),
        (rules("ingress", DROP, family="netdev", dev="tap"), "ingress", True),
        (rules("ingress", DROP, family="netdev", dev="other"), None, False),
        (rules("input", DROP), None, False),
    ],
)  # fmt: skip
def test_what_drops_a_clients_connection_on_its_way_to_a_guest(said: Rules, hook: str | None, back: bool) -> None:
    stop = first_stop(said, through(DOOR, LINKS), "dacha_")
    assert (stop.hook if stop else None) == hook and (stop is None or stop.back == back)


def test_a_device_that_is_not_known_has_no_chain() -> None:
    said = rules("ingress", DROP, family="netdev", dev="eth1")
    assert first_stop(said, through(DOOR, LINKS._replace(outer="")), "dacha_") is None


def test_a_firewall_that_admits_by_a_map_is_not_called_one_that_drops() -> None:
    """A base chain that drops what its map does not accept."""
    by_map = {"vmap": {"key": field("dport"), "data": {"set": [[22, {"accept": None}]]}}}
    answers = {"vmap": {"key": {"ct": {"key": "state"}}, "data": {"set": [["established", {"accept": None}]]}}}
    place = {"family": "inet", "table": "fw", "chain": "c"}
    base = {"chain": {"family": "inet", "table": "fw", "name": "c", "hook": "forward", "prio": 0, "type": "filter",
                      "policy": "drop"}}  # fmt: skip
    both = [{"rule": place | {"handle": n, "expr": [e]}} for n, e in enumerate((answers, by_map), 2)]
    assert first_stop(Rules({"nftables": [base, *both]}), through(DOOR, LINKS), "dacha_") is None
    other = first_stop(Rules({"nftables": [base, *both]}), through(DOOR._replace(guest_port=23), LINKS), "dacha_")
    assert other and str(other.culprit) == "the policy of chain c of table inet fw"


def test_what_drops_this_hosts_own_packets_and_a_guests() -> None:
    local = rules("output", match(field("daddr", "ip"), "10.77.4.20"), DROP)
    assert first_stop(local, from_this_host(HERE, LINKS), "dacha_") and not first_stop(
        local, through(DOOR, LINKS), "dacha_"
    )
    web = Flow(4, "tcp", "203.0.113.9", None, 443, "10.77.4.20")
    outward = rules("prerouting", match(field("dport"), 443), DROP, priority=-150)
    assert first_stop(outward, from_guest(web, LINKS), "dacha_")
    replies = first_stop(rules("forward", match(field("sport"), 443), DROP), from_guest(web, LINKS), "dacha_")
    assert replies and replies.back


def test_iptables_rules_before_and_after_the_doors() -> None:
    saved = (
        "*raw\n:PREROUTING ACCEPT [0:0]\n-A PREROUTING -p tcp -m tcp --dport 2220 -j CT --notrack\nCOMMIT\n"
        "*mangle\n:POSTROUTING ACCEPT [0:0]\n-A POSTROUTING -p tcp -m tcp --sport 22 -j DROP\nCOMMIT\n"
    )
    told = Rules({"nftables": list(entries(saved, "ip"))})
    stop = first_stop(told, through(DOOR, LINKS), "dacha_")
    assert stop and stop.hook == "postrouting" and stop.back
    assert str(stop.culprit) == "rule 1 in chain POSTROUTING of iptables"
    found = untracked_by(told, "prerouting", packet(2220, "192.0.2.10", oifname=None), "dacha_", -200)
    assert found and found.shown_by() == "iptables -t raw -L PREROUTING -v --line-numbers"
    assert untracked_by(told, "prerouting", packet(2221, "192.0.2.10", oifname=None), "dacha_", -200) is None


def hops(e: Any) -> dict[str, Hop]:
    return {h.name: h for h in judge(e)}


def test_silence_behind_this_hosts_own_firewall_is_not_the_guests() -> None:
    quiet = ConnectResult(SILENT)
    rule = Dropped("the rule with handle 2 in chain c of table ip fw", "nft -a list chain ip fw c")
    for path in (but(KERNEL, direct=quiet, through=quiet), but(USER, through=quiet)):
        both = but(path, dropped=rule, dropped_here=rule)
        stop = broken(judge(both))
        assert stop and stop.name == "firewall" and stop.remedy.startswith("nft -a list chain ip fw c\n")
        assert hops(both)["service"].verdict == UNTESTED and wanted(both) == ()
        # Clients on the LAN may get in where only this host's own packets are dropped.
        local = but(path, dropped_here=rule._replace(back=True))
        assert broken(judge(local)) is None and "drops the replies to this host" in hops(local)["door"].seen
    # Only a rule below IP silences ARP as well.
    silent = but(KERNEL, direct=quiet, through=quiet, answered=(), dropped_here=rule)
    assert hops(silent)["neighbour"].verdict == BROKEN
    assert hops(but(silent, dropped_here=rule._replace(below_ip=True)))["neighbour"].verdict == UNTESTED


@pytest.mark.parametrize(
    ("change", "hop", "words", "remedy"),
    [
        ({"pinned": "02:00:00:00:00:99"}, "neighbour", "02:00:00:00:00:99, set by hand", "ip neighbour delete"),
        ({"carried": LINK._replace(bridge_arp=False)}, "adapter", "ARP is switched off on br", "ip link set br arp on"),
        ({"carried": LINK._replace(lost="10.77.4.1"), "route": RouteSeen("eth0", "br")}, "route",
         "br does not have its address 10.77.4.1", "dacha apply"),
        ({"unforwarded": Unforwarded("eth0", "192.0.2.1", "10.77.4.20", "br", off=True)}, "forwarding",
         "net.ipv4.conf.eth0.forwarding is 0", "sysctl -w net.ipv4.conf.eth0.forwarding=1"),
        ({"unforwarded": Unforwarded("eth0", "192.0.2.1", "10.77.4.20", "br", "eth1")}, "forwarding",
         "go to eth1, not to br", "ip route get 10.77.4.20 from 192.0.2.1 iif eth0"),
        ({"unforwarded": Unforwarded("eth0", "192.0.2.1", "10.77.4.20", "br", "", "Permission denied")}, "forwarding",
         "(Permission denied)", "ip route get 10.77.4.20 from 192.0.2.1 iif eth0"),
        ({"untracked": ("rule 1 in chain PREROUTING of iptables", "iptables -t raw -L PREROUTING")}, "door-rule",
         "(notrack)", "iptables -t raw -L PREROUTING"),
        ({"dropped": Dropped("rule 1", "nft -a list", openable=True)}, "firewall", "rule 1 drops it",
         "dacha apply --open-firewall"),
    ],
)  # fmt: skip
def test_a_fault_of_this_host_is_named_with_its_remedy(
    change: dict[str, Any], hop: str, words: str, remedy: str
) -> None:
    stop = broken(judge(but(KERNEL, **change)))
    assert stop and stop.name == hop and words in stop.seen and stop.remedy.startswith(remedy)
