"""What people did, on made-up data and with the tiny guest: by the number of their journey. Those that need a system
which cannot run here are not among them."""

from __future__ import annotations

import time
import urllib.request

import pytest

from tests.journeys.conftest import Journey
from tests.networks.test_places import ROUTERS, enters, move
from tests.networks.world import HostedLab, until


def test_02_a_laptop_that_travels(abroad: Journey) -> None:
    lab = abroad.lab
    assert isinstance(lab, HostedLab)
    move(lab.world, "home")
    abroad("new", "loft")
    abroad("guest", "add", "gauge", *abroad.boot, "--door", "ssh=lan")
    abroad.edit(f'\n[place.home]\nrouter = "{ROUTERS["home"]}"\n')
    abroad("apply")
    port = int(lab("door", "list", "--json").json["doors"][0]["port"])
    assert until(lambda: enters(lab.world, port))
    # The hotel.
    move(lab.world, "cafe")
    time.sleep(2)
    assert not enters(lab.world, port)
    assert lab("connect", "gauge", "--", "hostname").out == "gauge\n"
    assert "the place is unknown" in lab("reach").out


@pytest.mark.whole
def test_03_three_ways_to_a_guest_whose_address_moves(abroad: Journey) -> None:
    lab = abroad.lab
    assert isinstance(lab, HostedLab)
    abroad("new", "loft")
    abroad("guest", "add", "gauge", *abroad.boot, "--door", "ssh=lan")
    abroad("apply")
    port = int(lab("door", "list", "--json").json["doors"][0]["port"])
    for machine, address in (("host", "127.0.0.1"), ("lan", "192.0.2.10")):
        assert lab.world.reads(machine, address, port).startswith("SSH-2.0-")
    # Its address changes, and nothing else has to.
    abroad("guest", "edit", "gauge", "--address", _next_address(lab))
    abroad("restart", "gauge")
    for machine, address in (("host", "127.0.0.1"), ("lan", "192.0.2.10")):
        assert lab.world.reads(machine, address, port).startswith("SSH-2.0-")


def _next_address(lab: HostedLab) -> str:
    adapter = lab("guest", "show", "gauge", "--json").json["adapters"][0]
    base, _, last = adapter["address"].rpartition(".")
    return f"{base}.{int(last) + 7}"


def test_05_a_project_folder_with_its_guest(journey: Journey) -> None:
    lab = journey.lab
    (lab.folder / "site").mkdir()
    (lab.folder / "site/tides.txt").write_text("low\n")
    journey("new", "loft")
    journey("guest", "add", "gauge", *journey.boot, "--door", "ssh")
    journey("share", "add", "gauge", "site", "--folder", "site", "--at", "/srv/site")
    journey.edit(
        '\n[guest.gauge.door.page]\nservice = "http"\nfrom = "host"\nport = 18080\nto = 8080\nalways = false\n'
    )
    journey("apply")
    inside = ("connect", "gauge", "--")
    assert lab(*inside, "cat /srv/site/tides.txt").out == "low\n"
    lab(*inside, "echo high > /srv/site/from-inside.txt")
    assert (lab.folder / "site/from-inside.txt").read_text() == "high\n"
    assert lab("status").code == 0  # the server is off, and need not be on
    lab(*inside, "httpd -p 8080 -h /srv/site")
    assert until(lambda: fetched("http://127.0.0.1:18080/tides.txt")) == b"low\n"


def fetched(url: str) -> bytes:
    try:
        with urllib.request.urlopen(url, timeout=10) as answer:
            return bytes(answer.read())
    except OSError:
        return b""


@pytest.mark.whole
def test_06_a_colleague_with_another_client(journey: Journey) -> None:
    lab = journey.lab
    journey("new", "loft")
    journey("guest", "add", "gauge", *journey.boot, "--door", "ssh=lan")
    journey("person", "add", "mara", "--key", "id.pub", "--enter", "gauge")
    journey("apply")
    journey("handout", "--for", "mara", "--output", "for-mara")
    names = {p.name for p in (lab.folder / "for-mara").rglob("*") if p.is_file()}
    assert any(n.endswith(".reg") for n in names) and any("ssh" in n for n in names), names


def test_13_ping_answers_and_ssh_does_not(journey: Journey) -> None:
    lab = journey.lab
    journey("new", "loft")
    journey("guest", "add", "gauge", *journey.boot)
    journey("apply")
    assert "no door" in lab("reach", "--why").out
    journey("door", "add", "gauge", "ssh", "--from", "host")
    journey("apply")
    assert lab("connect", "gauge", "--", "id -un").out == "ops\n"
    assert "ping" in lab("reach").out


@pytest.mark.whole
def test_15_a_display_whose_password_stays(journey: Journey) -> None:
    lab = journey.lab
    journey("new", "loft")
    journey("guest", "add", "gauge", *journey.boot)
    journey("apply")
    keep = ("screen", "gauge", "--listen", "host", "--keep", "--json")
    first = journey(*keep).json
    journey("restart", "gauge", "--force")
    again = lab(*keep).json
    assert first["password"] and again["password"] == first["password"]
    assert lab("host", "--json", code=None).json["cpus"] >= 1


def test_17_three_wirings_compared(abroad: Journey) -> None:
    lab = abroad.lab
    assert isinstance(lab, HostedLab)
    lab.world.run("host", "ip", "link", "add", "br0", "type", "bridge")
    lab.world.run("host", "ip", "link", "set", "br0", "up")
    abroad("new", "loft")
    abroad.edit(
        '\n[network.nat]\nkind = "nat"\n[network.inner]\nkind = "host-only"\nbackend = "kernel"\n'
        '[network.wire]\nkind = "bridge"\ninterface = "br0"\nsubnet = "192.0.2.0/24"\ngateway = "192.0.2.1"\n'
    )
    abroad("guest", "add", "one", *abroad.boot, "--network", "nat", "--door", "ssh=lan")
    abroad("guest", "add", "two", *abroad.boot, "--network", "inner", "--door", "ssh")
    abroad("guest", "add", "three", *abroad.boot, "--network", "wire", "--address", "192.0.2.77", "--door", "ssh=lan")
    rows = {r["guest"]: r for r in lab("reach", "--json").json["services"] if r["service"] == "ssh"}
    open_to = {g: [p for p, cell in r["from"].items() if cell["ways"]] for g, r in rows.items()}
    assert "lan" in open_to["one"] and "lan" in open_to["three"] and "lan" not in open_to["two"]
    assert "host" in open_to["two"]
