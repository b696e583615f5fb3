"""The table of who can reach what, computed from the lab alone (tests/networks/test_reach.py tries it for real)."""

from __future__ import annotations

from ipaddress import IPv4Address

import pytest

from dacha.core.lab.table.read import read_lab
from dacha.core.plan.plan import make_plan
from dacha.core.reach.reach import Cell, HostView, Row, never_entered, reach

TEXT = """\
[lab]
name = "real"
[network.pier]
kind = "nat"
backend = "kernel"
subnet = "10.77.4.0/24"
dynamic = "10.77.4.100-10.77.4.120"
[network.vault]
kind = "host-only"
backend = "kernel"
subnet = "10.77.9.0/24"
[network.plain]
kind = "nat"
subnet = "10.77.5.0/24"
[network.quay]
kind = "bridge"
interface = "eth0"
[guest.gauge]
memory = "64 MiB"
adapter = [{ network = "pier", address = "10.77.4.20" }]
door.ssh = { from = "lan", port = 2220 }
door.http = { from = "host", port = 8020 }
[guest.buoy]
memory = "64 MiB"
adapter = [{ network = "pier", address = "dynamic" }]
[guest.locker]
system = "windows"
memory = "64 MiB"
adapter = [{ network = "vault", address = "10.77.9.20" }]
[guest.charts]
memory = "64 MiB"
adapter = [{ network = "plain", address = "10.77.5.20" }]
door.ssh = { from = "host", port = 2222 }
[guest.tower]
memory = "64 MiB"
adapter = [{ network = "quay", address = "192.0.2.50/24" }]
door.ssh = { from = "host" }
[guest.alone]
memory = "64 MiB"
"""
GROUND = HostView(IPv4Address("192.0.2.10"), frozenset({"quay"}))


def table() -> dict[tuple[str, str], Row]:
    reading = read_lab(TEXT)
    assert reading.lab is not None and not reading.findings
    return {(r.guest, r.service): r for r in reach(reading.lab, make_plan(reading.lab), GROUND)}


def said(cell: Cell) -> str:
    return f"{cell.ways[0].address}:{cell.ways[0].port}" if cell.ways else f"no: {cell.why}"


@pytest.mark.parametrize(
    ("guest", "service", "cells"),
    [
        ("gauge", "ssh", "10.77.4.20:22|10.77.4.20:22|no: network vault has no way out|10.77.5.1:2220|192.0.2.10:2220|"
         "192.0.2.10:2220|no: does not reach beyond the LAN"),
        ("gauge", "http", "10.77.4.20:80|10.77.4.20:80|no: network vault has no way out|no: door from this host only|"
         "no: door from this host only|no: door from this host only|no: door from this host only"),
        ("buoy", "ssh", "by DHCP:22|by DHCP:22|no: network vault has no way out|no: no door|no: no door|no: no door|"
         "no: no door"),
        ("locker", "rdp", "10.77.9.20:3389|no: host-only|10.77.9.20:3389|no: host-only|no: host-only|no: host-only|"
         "no: host-only"),
        ("charts", "ssh", "127.0.0.1:2222|no: door from this host only|no: network vault has no way out|10.77.5.1:2222|"
         "no: door from this host only|no: door from this host only|no: door from this host only"),
        ("tower", "ssh", "no: it is directly on eth0, which bypasses this host|no: no door|"
         "no: network vault has no way out|no: no door|192.0.2.50:22|192.0.2.50:22|no: has a LAN address only"),
        ("alone", "ssh", "|".join(["no: it has no adapter"] * 7)),
    ],
)  # fmt: skip
def test_a_row_from_every_place(guest: str, service: str, cells: str) -> None:
    row = table()[guest, service]
    assert list(row.cells) == ["host", "pier", "vault", "plain", "quay", "lan", "outside"]
    assert "|".join(said(c) for c in row.cells.values()) == cells


def test_every_no_that_can_be_opened_says_how() -> None:
    rows = table()
    assert rows["charts", "ssh"].cells["lan"].remedy == "dacha door edit charts ssh --from lan"
    assert rows["buoy", "ssh"].cells["lan"].remedy == "dacha door add buoy ssh --from lan"
    assert rows["locker", "rdp"].cells["lan"].remedy == "dacha guest edit locker --adapter pier"


def test_a_door_that_nobody_can_enter_is_a_finding() -> None:
    lab = read_lab(TEXT).lab
    assert lab is not None
    (finding,) = never_entered(lab, make_plan(lab), GROUND)
    assert finding.subject == "door tower ssh" and "not reachable from this host" in finding.what
    assert never_entered(lab, make_plan(lab), HostView()) == []


def test_a_door_for_everybody_beside_one_for_some_is_for_everybody() -> None:
    doors = 'door.some = { service = "ssh", from = "lan", port = 2299, allow = ["192.0.2.30", "192.0.2.0/25"] }\n'
    reading = read_lab(TEXT.replace("door.http = {", doors + "door.http = {"))
    assert reading.lab is not None
    rows = reach(reading.lab, make_plan(reading.lab), HostView(lan=IPv4Address("192.0.2.10")))
    cell = next(r for r in rows if (r.guest, r.service) == ("gauge", "ssh")).cells["lan"]
    assert [(w.port, w.only) for w in cell.ways] == [(2220, ()), (2299, ("192.0.2.30/32", "192.0.2.0/25"))]
    assert cell.only == ()
    # With that one alone it is for some, and says for whom.
    alone = read_lab(TEXT.replace('door.ssh = { from = "lan", port = 2220 }', doors))
    assert alone.lab is not None
    cell = next(r for r in reach(alone.lab, make_plan(alone.lab)) if r.guest == "gauge").cells["lan"]
    assert cell.only == ("192.0.2.30/32", "192.0.2.0/25")
