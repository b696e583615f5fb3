"""The way from a guest outwards: each cause is reached, and nothing that a guest says is an error or a place to go."""

from __future__ import annotations

import subprocess
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from dacha.core.network.uplink import NO_CARRIER, Cut
from dacha.core.trace.hop import BROKEN
from dacha.core.trace.outward import judge
from dacha.core.trace.seen.inside import Inside
from dacha.core.trace.seen.outward import GOT_IN, NOT_TRIED, TIMED_OUT, TURNED_AWAY, Near, Outward, read_way
from dacha.core.trace.seen.outward_questions import target_script, way_script
from dacha.core.trace.seen.reported import Link
from dacha.core.trace.seen.results import OPEN, REFUSED, SILENT, ConnectResult, Dropped, Unforwarded
from dacha.core.trace.seen.ways import read_way as read_line

FINE = Outward(
    "gauge", "192.0.2.30", 80, network="pier", kind="nat", where="kernel", planned="10.77.4.20", prefix=24,
    gateway="10.77.4.1", hardware="02:00", by="agent", way="192.0.2.30 via 10.77.4.1 dev eth0", tried=GOT_IN,
    inside=Inside(links=(Link("eth0", True, "02:00", ("10.77.4.20/24",)),), told=frozenset(("links",))),
    host=ConnectResult(OPEN, True),
)  # fmt: skip
DOWN = Inside(links=(Link("eth0", False, "02:00"),), told=frozenset(("links",)))
LOST = FINE._replace(tried=TIMED_OUT)
UNHEARD = LOST._replace(host=ConnectResult(SILENT))
ROUTED = Inside(gateway="10.77.4.1", ways=(read_line("unreachable 192.0.2.0/24"), read_line("default via 10.77.4.1")))
RULED = Inside(gateway="10.77.4.1", policies=("5: from all to 192.0.2.0/24 prohibit",))
# The gateway of IPv6 is what router advertisements say, a link-local address; the guest reports no IPv6 addresses.
BY_IPV6 = FINE._replace(
    target="2001:db8:1::14", planned="fd77:4::20", prefix=64, gateway="fd77:4::1", way="x via fe80::1 dev eth0"
)


@pytest.mark.parametrize(
    ("seen", "broken", "words"),
    [
        (FINE, None, "connects to 192.0.2.30:80"),
        (FINE._replace(state="off"), "guest", "dacha start gauge"),
        (LOST._replace(inside=DOWN), "link", "ip link set eth0 up"),
        (LOST._replace(inside=Inside(links=(Link("eth0", True, "02:00"),), told=frozenset(("links",)))), "link",
         "10.77.4.20/24 is planned"),
        (LOST._replace(target="pier.example", servers=("10.77.4.2",)), "names", "cannot resolve it either"),
        (LOST._replace(target="pier.example", servers=("10.77.4.2",), known=("192.0.2.30",)), "names",
         "--to 10.77.4.2:53"),
        (LOST._replace(target="pier.example"), "names", "no name server"),
        (LOST._replace(way=""), "route", "ip route replace default via 10.77.4.1"),
        (LOST._replace(way="192.0.2.30 via 10.77.4.9 dev eth0"), "route", "default route uses 10.77.4.9"),
        (LOST._replace(way="", gateway="", kind="host-only"), "route", "--kind nat"),
        (LOST._replace(way="", gateway="", isolated=True), "route", "--open"),
        (LOST._replace(gateway_state="FAILED"), "gateway", "10.77.4.1 does not answer"),
        (LOST._replace(refuses=("port 80 of this host is closed", "dacha network edit pier")), "rules", "is closed"),
        (LOST._replace(dropped=Dropped("rule 4 of inet fw", "nft -a list")), "rules", "another program's rule"),
        (LOST._replace(rules_missing=("the rules are gone", "no traffic passes")), "rules", "dacha apply"),
        (LOST, "target", "this host connects"),
        (BY_IPV6, None, "connects to [2001:db8:1::14]:80"),
        (BY_IPV6._replace(tried=TIMED_OUT, way=""), "route", "ip -6 route replace default via fd77:4::1"),
        (BY_IPV6._replace(tried=TIMED_OUT, way="x via fd77:4::9 dev eth0"), "route", "default route uses fd77:4::9"),
        (LOST._replace(host=ConnectResult(SILENT)), "target", "to this host either"),
        (UNHEARD._replace(near=Near("192.0.2.30", "eth0", False, answers=False)), "target", "no machine answers ARP"),
        (UNHEARD._replace(near=Near("192.0.2.30", "eth0", False, answers=True)), "target", "it is on: it answers ARP"),
        (UNHEARD._replace(near=Near("192.0.2.1", "eth0", True, answers=True)), "target", "it is off, or does not"),
        (UNHEARD._replace(near=Near("192.0.2.1", "eth0", True, answers=False)), "host", "router 192.0.2.1 does not"),
        (UNHEARD._replace(near=Near("192.0.2.1", "eth0", True, Cut(NO_CARRIER, ("eth0",)))), "host", "has no carrier"),
        (LOST._replace(tried=TURNED_AWAY, host=ConnectResult(REFUSED)), "target", "no program listens on that port"),
        (LOST._replace(tried=TURNED_AWAY), "target", "refuses the guest, and not this host"),
        (LOST._replace(way="", inside=ROUTED), "route", "ip route del unreachable 192.0.2.0/24"),
        (LOST._replace(way="", inside=RULED), "route", "its policy rules are from all to 192.0.2.0/24 prohibit"),
        (LOST._replace(way="192.0.2.30 dev tun0"), "route", "by tun0, not by eth0"),
        (LOST._replace(forwarding=False), "forwarding", "net.ipv4.ip_forward is 0"),
        (LOST._replace(forwarding=True, unforwarded=Unforwarded("br", "10.77.4.20", "192.0.2.30", "eth0", "tun0")),
         "forwarding", "go to tun0, not to eth0"),
        (LOST._replace(routed=False, host=ConnectResult(SILENT, False, "x")), "host", "has no route to 192.0.2.30"),
        (LOST._replace(by="", mute="no agent", inside=None, way=None, tried=NOT_TRIED), None,
         "could not be queried: no agent"),
    ],
)  # fmt: skip
def test_each_cause_is_reached(seen: Outward, broken: str | None, words: str) -> None:
    hops = judge(seen)
    assert next((h.name for h in hops if h.verdict == BROKEN), None) == broken
    assert words in " ".join(" ".join(h) for h in hops)


@given(st.text(), st.lists(st.sampled_from(["resolved x", "resolved 192.0.2.1; reboot", "tried", "way", "neighbour"])))
def test_nothing_that_a_guest_says_is_an_error_or_a_place_to_go(noise: str, lines: list[str]) -> None:
    seen = read_way("\n".join([noise, *lines]), FINE._replace(target="pier.example", known=("192.0.2.30",)))
    assert seen.from_here == "192.0.2.30", "this host goes where it knows the name to be"
    judge(seen)


def run(script: str, shell: str) -> Any:
    return subprocess.run([*shell.split(), "-c", script], capture_output=True, text=True, check=True).stdout


@pytest.mark.parametrize("shell", ["dash", "bash", "busybox sh"])
def test_its_questions_are_a_shells(shell: str) -> None:
    """On this machine, which is no guest: a name of its own, and a port of its loopback that nobody has."""
    told = read_way(run(way_script("localhost", named=True), shell), Outward("gauge", "localhost", 1))
    assert "127.0.0.1" in told.found
    for address in ("127.0.0.1", "::1"):
        told = read_way(run(target_script(address, 1, address), shell), told._replace(tried="", way=None))
        assert told.tried == TURNED_AWAY and told.way
