"""What people did, on made-up data and with the tiny guest: by the number of their journey. Those that need a system
which cannot run here are not among them."""

from __future__ import annotations

import json
import subprocess
import time
import urllib.request
from pathlib import Path

import pytest

from tests.attacks.field import on_console
from tests.formats.test_medium import made
from tests.formats.test_wim import wim
from tests.guests.test_live_setup import ROOT
from tests.journeys.conftest import Journey
from tests.networks.test_bridge import make_bridge
from tests.networks.test_places import ROUTERS, enters, move
from tests.networks.world import HostedLab, until

TOP = Path(__file__).parents[2]
# The LAN, as a network of the lab.
WIRE = (
    '\n[network.wire]\nkind = "bridge"\ninterface = "eth0"\nsubnet = "192.0.2.0/24"\ngateway = "192.0.2.1"\n'
    'name-servers = ["192.0.2.1"]\n'
)


@pytest.mark.whole
def test_01_an_installer_medium_and_a_fixed_address_on_the_lan(abroad: Journey) -> None:
    from dacha.demo.installer_image import installer_image

    lab = abroad.lab
    assert isinstance(lab, HostedLab)
    make_bridge(lab.world)
    abroad("new", "loft")
    abroad("media", "add", str(installer_image("poweroff")), "--name", "installer")
    abroad.edit(WIRE.replace("eth0", "br0"))
    abroad(
        "guest", "add", "gauge", "--install", "installer", "--disk", "256MiB", "--memory", "256MiB", "--bus", "nvme",
        "--user", "ops", "--key", "id.pub", "--network", "wire", "--address", "192.0.2.77", "--door", "ssh=lan",
    )  # fmt: skip
    abroad("apply", "--no-wait")
    assert lab.world.greets("lan", "192.0.2.77", 22, 600)
    # The medium is out: its next start is from its own disk.
    assert lab("diff").out.endswith("everything applied\n")
    record = lab("console", "gauge", "--record").out
    abroad("restart", "gauge")
    assert lab.world.greets("lan", "192.0.2.77", 22)
    assert lab("console", "gauge", "--record").out.count("demo installer: installed") == record.count(
        "demo installer: installed"
    )


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
        assert lab.world.greets(machine, address, port)
    # Its address changes, and nothing else has to.
    abroad("guest", "edit", "gauge", "--address", _next_address(lab))
    abroad("restart", "gauge")
    for machine, address in (("host", "127.0.0.1"), ("lan", "192.0.2.10")):
        assert lab.world.greets(machine, address, port)


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


@pytest.mark.whole
def test_07_a_desktop_that_the_lan_enters_after_three_starts(abroad: Journey) -> None:
    lab = abroad.lab
    assert isinstance(lab, HostedLab)
    move(lab.world, "home")
    abroad("new", "loft")
    dynamic = ("--subnet", "10.77.9.0/24", "--dynamic", "10.77.9.100-10.77.9.199")
    abroad("network", "add", "inner", "--backend", "kernel", *dynamic)
    abroad("guest", "add", "desk", *abroad.boot, "--address", "dynamic", "--door", "rdp=lan", "--door", "ssh=lan")
    abroad.edit(f'\n[place.home]\nrouter = "{ROUTERS["home"]}"\n')
    abroad("apply", "--no-wait")
    ports = {d["name"]: int(d["port"]) for d in lab("door", "list", "--json").json["doors"]}
    for _ in range(3):
        # A server on its desktop's port, as far as this guest goes: the door leads there, and to nothing else.
        assert lab.world.greets("lan", "192.0.2.10", ports["ssh"], 300)
        assert lab.world.reads("lan", "192.0.2.10", ports["rdp"], 5.0) == "refused"
        lab("connect", "desk", "--", "httpd -p 3389 -h /tmp")
        assert until(lambda: lab.world.reads("lan", "192.0.2.10", ports["rdp"], 2.0) != "refused")
        lab("restart", "desk", "--force", "--no-wait")
    move(lab.world, "cafe")
    time.sleep(2)
    assert not enters(lab.world, ports["rdp"]) and not enters(lab.world, ports["ssh"])


@pytest.mark.whole
def test_08_a_file_for_each_remote_desktop_and_one_for_all(journey: Journey) -> None:
    lab = journey.lab
    journey("new", "loft")
    for name in ("desk", "chart"):
        journey(
            "guest", "add", name, *journey.boot, "--system", "windows", "--door", "rdp=lan", "--resolution", "1280x800"
        )
    journey("handout", "--from", "lan", "--output", "clients")
    files = {p.name: p for p in (lab.folder / "clients").rglob("*") if p.is_file()}
    for name in ("desk", "chart"):
        (own,) = [p for n, p in files.items() if n.endswith(".rdp") and name in n]
        text = own.read_bytes().decode("utf-16" if own.read_bytes()[:2] == b"\xff\xfe" else "utf-8-sig")
        assert "full address:s:" in text and "1280" in text, text
    sheet = next(p for n, p in files.items() if n.endswith(".html")).read_text()
    assert "desk" in sheet and "chart" in sheet


@pytest.mark.whole
def test_09_a_desktop_by_both_families(abroad: Journey) -> None:
    lab, made = abroad.lab, Path("/var/tmp/dacha-debian-desktop")
    assert isinstance(lab, HostedLab)
    subprocess.run([TOP / "tools/debian-guest.sh", made, "--desktop"], check=True, timeout=900)
    abroad("new", "loft")
    subnets = ("--subnet", "10.77.9.0/24", "--subnet6", "fd77:9::/64")
    abroad("network", "add", "inner", "--backend", "kernel", *subnets)
    abroad(
        "guest", "add", "desk", "--system", "debian", "--memory", "1 GiB", "--from", str(made / "disk.qcow2"),
        "--kernel", str(made / "vmlinuz"), "--initrd", str(made / "initrd.img"),
        "--command-line", "root=LABEL=root rw console=ttyS0 net.ifnames=0", "--address", "10.77.9.20",
        "--address6", "fd77:9::20", "--user", "ops", "--key", "id.pub", "--door", "rdp=lan", "--at-boot",
        "--start-order", "1", "--ready-within", "15 min",
    )  # fmt: skip
    abroad.edit('[guest.tern]\nmemory = "32 MiB"\nstart = { at-boot = true, order = 2 }\n')
    abroad("guest", "password", "desk", "ops", input="low tide at nine\n", stdin=None)
    abroad("apply", "--wait", "15min", timeout=1000)
    # Started in their order: the second when the desktop of the first answered.
    events = [json.loads(line) for line in lab("log", "--json").out.splitlines()]
    started = [e["guest"] for e in events if e["kind"] == "started"]
    assert started == ["desk", "tern"]
    port = lab("door", "list", "desk", "--json").json["doors"][0]["port"]
    words = ("trace", "desk", "rdp", "--from", "lan", "--user", "ops", "--json")
    hops = lab(*words, code=None, input="low tide at nine\n", stdin=None).json["hops"]
    assert next(h for h in hops if h["name"] == "login")["verdict"] == "fine", (port, hops)
    # Its own addresses, and the way out by both families.
    inside = lab("connect", "desk", "--by", "agent", "--", "ip -br address").out
    assert "10.77.9.20/24" in inside and "fd77:9::20/64" in inside, inside
    servers = [
        lab.world.serve("router", "198.51.100.1", 80, "out"),
        lab.world.serve("lan", "2001:db8:1::14", 80, "lan"),
    ]
    try:
        for to in ("198.51.100.1:80", "[2001:db8:1::14]:80"):
            said = lab("trace", "desk", "--to", to, code=None)
            assert said.code == 0, said
    finally:
        for server in servers:
            server.kill()
            server.wait()


@pytest.mark.whole
def test_10_a_guest_on_the_wire_and_a_client_that_is_not_here(abroad: Journey) -> None:
    lab = abroad.lab
    assert isinstance(lab, HostedLab)
    abroad("new", "loft")
    abroad("network", "add", "wire", "--kind", "bridge", "--interface", "wlp9", code=None)
    assert "it has: eth0" in lab("check", code=None).out or "wlp9" in lab("check", code=None).out
    abroad("network", "edit", "wire", "--interface", "eth0", "--subnet", "192.0.2.0/24", "--gateway", "192.0.2.1")
    abroad("guest", "add", "gauge", *abroad.boot, "--network", "wire", "--address", "192.0.2.77", "--door", "ssh=lan")
    abroad("apply", "--no-wait")
    assert lab.world.greets("lan", "192.0.2.77", 22, 300)
    # This host itself does not see it, and says why.
    assert "directly on eth0" in lab("reach", "--why").out
    lab("handout", "--from", "lan", "--output", "clients")
    assert list((lab.folder / "clients").rglob("*.reg")) and "192.0.2.77" in str(
        [p.read_text(errors="replace") for p in (lab.folder / "clients").rglob("*") if p.is_file()]
    )


@pytest.mark.whole
def test_11_two_stores_a_promise_and_a_medium_that_is_stuck(journey: Journey) -> None:
    from dacha.demo.installer_image import installer_image

    lab = journey.lab
    (lab.folder / "room").mkdir()
    journey("new", "loft")
    journey.edit('\n[storage.room]\npath = "room"\n')
    journey("media", "add", str(installer_image("poweroff")), "--name", "tools", "--storage", "room")
    journey("guest", "add", "gauge", *journey.boot, "--storage", "room", "--disk", "64MiB", "--door", "ssh")
    journey("guest", "edit", "gauge", "--memory", "900GiB", "--anyway")
    # It is warned of before anything is started.
    warned = lab("check", code=None).out
    assert "900 GiB" in warned and "memory" in warned
    lab("guest", "edit", "gauge", "--memory", "128MiB")
    journey("apply")
    assert lab("connect", "gauge", "--", "id -un").out == "ops\n"
    assert list((lab.folder / "room").rglob("gauge*.qcow2")) and list((lab.folder / "room/media").glob("tools*"))
    # A medium goes in, the system locks it, and it comes out all the same.
    lab("media", "insert", "gauge", "tools")
    lab("restart", "gauge", "--force")
    done = lab("media", "eject", "gauge", "--force")
    assert done.code == 0 and "tools" not in lab("media", "list", "--json").json["media"][0].get("guests", [])


@pytest.mark.whole
def test_12_a_text_that_describes_a_machine_in_six_rounds(journey: Journey) -> None:
    lab = journey.lab
    journey("new", "loft")
    journey("guest", "add", "gauge", *journey.boot, "--door", "ssh")
    journey.edit("[guest.gauge.setup]\n")
    journey("apply")
    on_console(Path(lab.env["DACHA_RUN"]) / "loft/gauge", ROOT, 120)
    plain = lab.file.read_text()
    rounds = (
        ('file = [{ path = "/etc/motd", text = "low" }]', "low", "unknown user"),
        ('file = [{ path = "/etc/motd", text = "high" }]', "high", "unknown user"),
        ('user = [{ name = "mara" }]', "", "uid=1500(mara)"),
        ('user = [{ name = "mara" }]\nfile = [{ path = "/etc/motd", text = "x" }]', "x", "uid=1500(mara)"),
        ('run = ["echo wet > /tmp/wet"]', "", "unknown user"),
        ("", "", "unknown user"),
    )
    for text, motd, who in rounds:
        lab.file.write_text(plain + text + "\n")
        assert lab("apply").code == 0
        said = lab("connect", "gauge", "--", "cat /etc/motd; id mara 2>&1; true").out
        assert said.startswith(motd) and who in said, (text, said)
        assert "nothing to do" in lab("apply").out
    assert lab("connect", "gauge", "--", "cat /tmp/wet").out == "wet\n"


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


def test_16_an_installer_of_another_system_gets_every_answer(journey: Journey) -> None:
    """Nobody can run that system here: what it is given is read as its schema says (tests/formats)."""
    lab = journey.lab
    files = {"/sources/boot.wim": b"w", "/EFI/BOOT/BOOTX64.EFI": b"e", "/sources/install.wim": wim()}
    (lab.folder / "win.iso").write_bytes(made("CCCOMA_X64FRE_EN-US_DV9", files, bios=True, uefi=True))
    (lab.folder / "drivers.iso").write_bytes(made("virtio-win-0.1.240", {"/guest-agent/x.msi": b"x"}))
    journey("new", "loft")
    journey("media", "add", "win.iso", "--name", "win")
    journey("media", "add", "drivers.iso", "--name", "drivers")
    journey(
        "guest", "add", "desk", "--system", "windows", "--install", "win", "--with", "drivers", "--user", "kim",
        "--door", "rdp=lan", "--resolution", "1280x800", "--disk", "64GiB",
    )  # fmt: skip
    (lab.folder / "typed").write_text("tide table\n")
    journey("guest", "password", "desk", "kim", stdin=(lab.folder / "typed").open())
    shown = lab("guest", "show", "desk").out
    assert "uefi" in shown.lower() and "tpm" in shown.lower()
    told = lab("guest", "answers", "desk").out
    # The edition that takes remote desktop connections, a local account, and remote desktop itself.
    for words in ("<Value>2</Value>", "<Name>kim</Name>", "fDenyTSConnections"):
        assert words in told, words
    assert "tide table" not in told, "a password is not shown"
    assert "64 GiB" in shown and "1280x800" in lab.file.read_text()
    found = lab("check", "--json", code=None).json["findings"]
    assert not {"edition", "edition-desktop", "drivers"} & {f["code"] for f in found}, found


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
