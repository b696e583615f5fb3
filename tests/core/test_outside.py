"""The way from outside: what the router is asked for, when again, and what its answers mean."""

from __future__ import annotations

from ipaddress import IPv4Address

import pytest

from dacha.core.lab.table.read import read_lab
from dacha.core.plan.check import check_lab
from dacha.core.plan.plan import make_plan
from dacha.core.reach.reach import HostView, never_entered, reach
from dacha.core.router.mapping import (
    NO_ROUTE,
    UNKNOWN,
    Mapping,
    MappingRequest,
    RouterState,
    behind,
    by_hand,
    lost,
    next_look,
    outside_address,
    requests,
)

LAB = """\
[lab]
name = "saltmarsh"
[network.pier]
kind = "nat"
subnet = "10.77.4.0/24"
[network.quay]
kind = "bridge"
interface = "br0"
subnet = "192.0.2.0/24"
[guest.gauge]
memory = "128 MiB"
disk = [{ size = "1 MiB" }]
adapter = [{ network = "pier", address = "10.77.4.20" }]
door.ssh = { from = "outside", port = 2210 }
door.web = { service = "http", from = "outside", port = 8010, outside-port = 80 }
door.tides = { from = "outside", protocol = "udp", port = "5000-5001", to = "5000-5001" }
door.vnc = { from = "lan" }
[guest.charts]
memory = "128 MiB"
disk = [{ size = "1 MiB" }]
adapter = [{ network = "quay", address = "192.0.2.40" }]
door.ssh = { from = "outside" }
"""
LAN = IPv4Address("192.0.2.10")
SSH = MappingRequest("gauge", "ssh", "tcp", 2210, "192.0.2.10", 2210)


def asked(text: str = LAB) -> list[MappingRequest]:
    lab = read_lab(text).lab
    assert lab is not None
    return requests(lab, make_plan(lab), LAN)


def test_a_routers_words_are_an_address_or_nothing() -> None:
    """They go into files of OpenSSH and into commands."""
    assert outside_address("203.0.113.7") == "203.0.113.7"
    for told in ("", "0.0.0.0", "vpn.example.org", "203.0.113.7\n  ProxyCommand x", "2001:db8::1", "-oProxyCommand=x"):
        assert outside_address(told) == "", told


def test_what_the_router_is_asked_for() -> None:
    assert asked() == [
        SSH,
        MappingRequest("gauge", "web", "tcp", 80, "192.0.2.10", 8010, fixed=True),
        MappingRequest("gauge", "tides", "udp", 5000, "192.0.2.10", 5000, fixed=True),
        MappingRequest("gauge", "tides", "udp", 5001, "192.0.2.10", 5001, fixed=True),
        MappingRequest("charts", "ssh", "tcp", 22, "192.0.2.40", 22, third=True),
    ]
    assert by_hand(asked()[2:4]) == "outside ports 5000-5001, UDP, to 192.0.2.10, ports 5000-5001"
    assert by_hand([SSH]) == "outside port 2210, TCP, to 192.0.2.10, port 2210"


@pytest.mark.parametrize(
    "old, new, says",
    [
        ('from = "outside", port = 2210', 'from = "lan", outside-port = 99', "for doors from outside only"),
        ("outside-port = 80", "outside-port = 0", "0 is out of range"),
        ("outside-port = 80", 'outside-port = "http"', "not a whole number"),
        ('name = "saltmarsh"', 'name = "saltmarsh"\nrouter = "home"', "'home' is not an IPv4 address"),
    ],
)
def test_what_is_written_wrongly_is_said(old: str, new: str, says: str) -> None:
    assert says in " ".join(f.what for f in read_lab(LAB.replace(old, new)).findings)


def test_what_can_be_read_on_the_way_is_said() -> None:
    lab = read_lab(LAB).lab
    assert lab is not None
    said = [f.subject for f in check_lab(lab, make_plan(lab)) if f.code == "door-clear"]
    assert said == ["door gauge web"]


def test_a_host_only_guest_is_not_let_out() -> None:
    lab = read_lab(LAB.replace('kind = "nat"', 'kind = "host-only"')).lab
    assert lab is not None
    said = [f.what for f in make_plan(lab).findings]
    assert "gauge is on a host-only network: a door from outside would end its isolation" in said


@pytest.mark.parametrize(
    "address, why",
    [
        ("203.0.113.7", None),
        ("100.63.255.255", None),
        ("100.64.0.1", "a provider's shared address"),
        ("192.168.1.2", "a private address"),
        ("172.32.0.1", None),
        ("", None),
    ],
)
def test_a_second_nat_is_told_by_the_outside_address(address: str, why: str | None) -> None:
    assert behind(address) == (f"{address} is {why}" if why else None)


@pytest.mark.parametrize(
    "epoch, after, forgot",
    [(1060, 60.0, False), (1058, 60.0, False), (0, 60.0, True), (3, 2000.0, True), (999, 0.5, False),
     (5000, 60.0, True), (1000 + 3300, 3600.0, True), (1000 + 3400, 3600.0, False)],
)  # fmt: skip
def test_a_router_that_lost_its_mappings_is_told_by_its_clock(epoch: int, after: float, forgot: bool) -> None:
    before = RouterState(router="192.0.2.1", speaks="pcp", epoch_s=1000, heard=50_000.0)
    assert lost(before, epoch, 50_000.0 + after) is forgot


def test_renewal_is_halfway_and_failures_are_tried_again() -> None:
    mapping = Mapping(SSH, 2210, "", 1000.0, 7200.0)
    known = RouterState(router="192.0.2.1", speaks="pcp", mappings=(mapping,))
    assert mapping.due() == 4600.0
    assert next_look(known, 1000.0) == 60.0
    assert next_look(known, 4590.0) == 10.0
    assert next_look(known._replace(trouble="it does not respond"), 1000.0) == 30.0
    assert next_look(known._replace(trouble=NO_ROUTE), 1000.0) == 5.0


def test_reach_from_outside() -> None:
    lab = read_lab(LAB).lab
    assert lab is not None
    plan = make_plan(lab)

    def outside(known: RouterState, service: str = "ssh") -> tuple[list[str], str, str]:
        rows = reach(lab, plan, HostView(LAN, router=known, now=2000.0), ["gauge"])
        cell = next(r for r in rows if r.service == service).cells["outside"]
        return [f"{w.address}:{w.port} {w.through}" for w in cell.ways], cell.why, cell.remedy

    granted = RouterState(address="203.0.113.7", mappings=(Mapping(SSH, 2299, "", 1000.0, 7200.0),))
    assert outside(granted)[0] == ["203.0.113.7:2299 door ssh"]
    assert outside(UNKNOWN)[0] == ["the router:2210 door ssh"], "computed from the lab before it was ever asked"
    assert outside(granted._replace(address="100.64.7.7"))[1].startswith("the router is behind another NAT: 100.64.7.7")
    refused = RouterState(refused=(("gauge", "ssh", "it does not allow this"),))
    assert outside(refused)[:2] == ([], "the router: it does not allow this")
    text = LAB.replace('"outside", port = 2210', '"outside", port = 2210, allow = ["192.168.0.0/16"]')
    limited = read_lab(text).lab
    assert limited is not None
    said = [(f.subject, f.what) for f in never_entered(limited, make_plan(limited), HostView(LAN, now=2000.0))]
    assert said == [("door gauge ssh", "not reachable from outside: allows private addresses only")]
    assert outside(UNKNOWN, "vnc")[1:] == ("does not reach beyond the LAN", "dacha door edit gauge vnc --from outside")
