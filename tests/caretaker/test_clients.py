"""Distributions' own DHCP and DNS clients on a lab's network: they get, renew, keep and give back the right address."""

from __future__ import annotations

import asyncio
import contextlib
import json
import os
import re
import resource
import shutil
import signal
import socket
import subprocess
import sys
import time
from ipaddress import IPv6Network
from pathlib import Path
from typing import Any

import pytest

import dacha
from dacha.caretaker.packets.ip6 import Ip6Service
from dacha.core.lab.names import link_name
from dacha.wire.link.router_advertisement import Advertisement
from tests.conftest import PROGRAM
from tests.networks.world import HostedLab, until
from tests.processes import kill

GAUGE, STRANGER = "02:00:00:00:00:20", "02:00:00:00:00:99"
LAB = f"""\
[lab]
name = "real"
[network.pier]
kind = "nat"
backend = "kernel"
subnet = "10.77.4.0/24"
subnet6 = "fd77:4::/64"
dynamic = "10.77.4.100-10.77.4.120"
[guest.gauge]
memory = "64 MiB"
disk = [{{ size = "1 MiB" }}]
adapter = [{{ network = "pier", address = "10.77.4.20", address6 = "fd77:4::20", hardware-address = "{GAUGE}" }}]
"""


# What a client does with a lease: both clients' words for the address, and a note of what else it was told.
SCRIPT = """\
#!/bin/sh
ip=${ip:-$new_ip_address}
[ "$ip" ] && ip address replace "$ip/24" dev eth0
echo "$1$reason $router $domain $dns" >> "$0.log"
"""


def end(pid_file: Path) -> None:
    """End a client that went on in the background; it writes its number down a moment after it did."""
    deadline = time.monotonic() + 120
    while not (pid := pid_file.read_text() if pid_file.exists() else "").strip():
        assert time.monotonic() < deadline, f"{pid_file} stays empty"
        time.sleep(0.02)
    os.kill(int(pid), signal.SIGKILL)


class Client:
    """A machine on the lab's bridge that is no guest: a namespace with one adapter."""

    def __init__(self, lab: HostedLab, hardware: str) -> None:
        self.lab, self.folder = lab, lab.folder
        world = lab.world
        self.inside = lambda *command: world.inside("other", *command)
        bridge = link_name("real", "network", "pier")
        # The machine "other" leaves the LAN for the lab's bridge.
        world.run("other", "ip", "link", "delete", "eth0")
        subprocess.run(["ip", "link", "add", "eth0", "netns", world.name("other"), "type", "veth",
                        "peer", "name", "client", "netns", world.name("host")], check=True)  # fmt: skip
        world.run("host", "ip", "link", "set", "client", "master", bridge, "up")
        world.run("other", "ip", "link", "set", "eth0", "address", hardware, "up")

    def run(self, *command: str, check: bool = True, timeout: float = 30) -> str:
        done = subprocess.run(self.inside(*command), capture_output=True, text=True, timeout=timeout, check=False)
        assert not check or done.returncode == 0, done
        return done.stdout + done.stderr

    def address(self) -> str:
        found = re.search(r"inet (\S+)/", self.run("ip", "-4", "address", "show", "eth0"))
        return found[1] if found else ""


@pytest.fixture
def serving(hosted: HostedLab) -> HostedLab:
    hosted.write(LAB)
    hosted("apply", "--no-wait")
    hosted("stop", "--all", "--force", "--wait", "0s")
    return hosted


def leases(lab: HostedLab) -> dict[str, dict[str, Any]]:
    return {x["address"]: x for x in lab("caretaker", "status", "--json").json["leases"]}


def log(lab: HostedLab) -> str:
    return (lab.folder / "state/labs/real/caretaker.log").read_text()


def await_log(lab: HostedLab, text: str, times: int = 1) -> None:
    deadline = time.monotonic() + 120
    while log(lab).count(text) < times:
        assert time.monotonic() < deadline, log(lab)
        time.sleep(0.05)


@pytest.mark.parametrize("hardware", [GAUGE, STRANGER], ids=["reserved", "dynamic"])
def test_busyboxs_client_gets_renews_and_gives_back(serving: HostedLab, hardware: str) -> None:
    client = Client(serving, hardware)
    expected = "10.77.4.20" if hardware == GAUGE else "10.77.4.100"
    script = serving.folder / "script"
    script.write_text(
        '#!/bin/sh\n[ "$ip" ] && ip address replace "$ip/$mask" dev eth0\necho "$1 $router $domain $dns" >> "$0.log"\n'
    )
    script.chmod(0o755)
    # In the foreground: one that goes on in the background writes its own number down a moment after that.
    command = client.inside("udhcpc", "-f", "-i", "eth0", "-n", "-R", "-S", "-s", str(script))
    udhcpc, told = subprocess.Popen(command), serving.folder / "script.log"
    try:
        until(lambda: told.exists() and "bound 10.77.4.1 real.internal 10.77.4.2" in told.read_text())
        assert client.address() == expected
        udhcpc.send_signal(signal.SIGUSR1)  # renew, by unicast
        await_log(serving, f"{expected} is leased to {hardware}", 2)
        udhcpc.send_signal(signal.SIGUSR2)  # release
        await_log(serving, f"{expected} was released")
    finally:
        udhcpc.terminate()
        udhcpc.wait(30)
    assert leases(serving)[expected]["state"] == "released"


def test_iscs_client_gets_keeps_over_a_restart_and_gives_back(serving: HostedLab) -> None:
    client = Client(serving, STRANGER)
    script = serving.folder / "script"
    script.write_text(SCRIPT)
    script.chmod(0o755)
    leased, pid = serving.folder / "dhclient.leases", serving.folder / "dhclient.pid"
    files = ["-sf", str(script), "-lf", str(leased), "-pf", str(pid)]
    client.run("dhclient", "-4", "-1", "-v", *files, "eth0")
    (had,) = leases(serving)
    end(pid)
    # It comes back as after a reboot, and so does the caretaker, which was killed meanwhile.
    kill(serving("caretaker", "status", "--json").json["pid"])
    said = serving("caretaker", "status", code=1).out
    assert (
        "The caretaker is not running: guests get neither addresses nor name resolution. To start it: dacha apply"
        in said
    )
    assert "start the caretaker" in serving("diff").out
    serving("apply", "--no-wait")
    said = client.run("dhclient", "-4", "-1", "-v", *files, "eth0")
    assert f"DHCPREQUEST for {had}" in said and f"DHCPACK of {had}" in said
    client.run("dhclient", "-4", "-r", "-v", *files, "eth0")
    await_log(serving, f"{had} was released")


def test_dhcpcd_gets_the_reserved_address(serving: HostedLab) -> None:
    client = Client(serving, GAUGE)
    said = client.run("dhcpcd", "-4", "-1", "-B", "-d", "-t", "15", "-c", "/bin/true", "--noarp", "eth0", check=False)
    assert "10.77.4.20" in said and "leased" in said, said


def test_ipv6_by_advertisement_and_dhcp(serving: HostedLab) -> None:
    """The kernel itself takes the router and the prefix; ISC's client takes the planned address."""
    client = Client(serving, GAUGE)
    files = ["-lf", str(serving.folder / "leases6"), "-pf", str(serving.folder / "pid6")]
    deadline = time.monotonic() + 120
    # Its own link-local address has to be its own first (RFC 4862 section 5.4): a client cannot send from it before.
    while "default via fe80::" not in client.run("ip", "-6", "route") or client.run(
        "ip", "address", "show", "tentative"
    ):
        assert time.monotonic() < deadline, (
            client.run("ip", "-6", "address"), serving.world.run("host", "ip", "-6", "address"), log(serving)
        )  # fmt: skip
        time.sleep(0.2)
    assert "fd77:4::/64 dev eth0 proto kernel" in client.run("ip", "-6", "route")
    assert "fd77:4::" not in client.run("ip", "-6", "address", "show", "eth0"), "nobody makes addresses by himself"
    client.run("dhclient", "-6", "-1", "-v", *files, "-sf", "/bin/true", "eth0")
    assert "iaaddr fd77:4::20" in (serving.folder / "leases6").read_text()
    end(serving.folder / "pid6")


def test_an_address_in_use_is_found_before_it_is_offered(serving: HostedLab) -> None:
    client = Client(serving, STRANGER)
    world = serving.world
    # Somebody took the first dynamic address by hand.
    world.run("lan", "ip", "link", "delete", "eth0")
    subprocess.run(["ip", "link", "add", "eth0", "netns", world.name("lan"), "type", "veth",
                    "peer", "name", "squatter", "netns", world.name("host")], check=True)  # fmt: skip
    world.run("host", "ip", "link", "set", "squatter", "master", link_name("real", "network", "pier"), "up")
    world.run("lan", "ip", "address", "add", "10.77.4.100/24", "dev", "eth0")
    world.run("lan", "ip", "link", "set", "eth0", "up")
    # What is plugged in by hand passes once the rules name it, a moment later.
    rules = ("nft", "list", "set", "bridge", "dacha_real", "plugged")
    until(lambda: "squatter" in world.run("host", *rules, check=False))
    client.run("udhcpc", "-i", "eth0", "-n", "-q", "-f", "-s", "/bin/true")
    assert leases(serving).keys() == {"10.77.4.101"}
    assert "10.77.4.100 is in use by a machine without a lease for it" in log(serving)


def test_names_are_answered_here_and_others_asked_for(serving: HostedLab) -> None:
    client = Client(serving, STRANGER)
    client.run("ip", "address", "add", "10.77.4.50/24", "dev", "eth0")
    client.run("ip", "address", "add", "fd77:4::50/64", "dev", "eth0", "nodad")

    def dig(*words: str, server: str = "10.77.4.2") -> str:
        return client.run("dig", "+time=2", "+tries=1", f"@{server}", *words, check=False).strip()

    # On a busy machine an address may not be there yet that is listened at: it is tried again, and said.
    deadline = time.monotonic() + 60
    while (said := dig("+short", "gauge.real.internal")) != "10.77.4.20":
        assert time.monotonic() < deadline, f"{said}\n{log(serving)}"
        time.sleep(0.2)
    assert dig("+short", "gauge.real.internal", "AAAA", server="fd77:4::1") == "fd77:4::20"
    assert dig("+short", "+tcp", "-x", "10.77.4.20", server="10.77.4.1") == "gauge.real.internal."
    assert "NXDOMAIN" in dig("nobody.real.internal")
    assert "SERVFAIL" in dig("+time=8", "www.example.org")  # nobody answers this host yet
    command = serving.world.inside("router", sys.executable, Path(__file__).with_name("upstream.py"), "192.0.2.1")
    with subprocess.Popen(command, stdout=subprocess.PIPE, text=True) as upstream:
        try:
            assert upstream.stdout and upstream.stdout.readline() == "up\n"
            assert [dig("+short", "www.example.org"), dig("+short", "WWW.example.org")] == ["192.0.2.80"] * 2
            assert "NXDOMAIN" in dig("gone.example.org")
            assert dig("+short", "many.example.org").count("198.51.100.") == 100  # cut, and asked for again by TCP
        finally:
            upstream.kill()
        asked = upstream.stdout.read().splitlines()
    assert asked == ["udp www.example.org.", "udp gone.example.org.", "udp many.example.org.", "tcp many.example.org."]
    # Nobody outside the lab's networks is answered, though this host's address on the LAN is the same machine's.
    assert "no servers could be reached" in serving.world.run(
        "lan", "dig", "+time=1", "+tries=1", "@192.0.2.10", "gauge.real.internal", check=False
    )
    # A guest that is new is known at once.
    text = serving.file.read_text()
    serving.file.write_text(text + '[guest.charts]\ndisk = [{ size = "1 MiB" }]\nadapter = [{ network = "pier" }]\n')
    serving("apply", "--no-wait")
    deadline = time.monotonic() + 120
    while dig("+short", "charts.real.internal") != "10.77.4.10":
        assert time.monotonic() < deadline
        time.sleep(0.1)


def test_a_bridge_that_was_deleted_is_served_again_after_apply(serving: HostedLab) -> None:
    serving.world.run("host", "ip", "link", "delete", link_name("real", "network", "pier"))
    serving("apply", "--no-wait")
    client = Client(serving, GAUGE)
    client.run("udhcpc", "-i", "eth0", "-n", "-q", "-f", "-s", "/bin/true")
    assert "10.77.4.20" in leases(serving)
    # It lives on where its note could not be written now, as on a full disk, and where the lab cannot be read.
    note, aside = (serving.folder / "state/labs/real" / name for name in ("caretaker.json", "aside"))
    labs = (serving.file, note.with_name("applied.toml"))
    pid = json.loads(note.read_text())["process"][0]
    note.rename(aside)
    (note / "taken").mkdir(parents=True)
    for file in labs:
        file.write_text("[lab\n")
    os.kill(pid, signal.SIGHUP)
    await_log(serving, "cannot serve the lab", times=2)
    shutil.rmtree(note)
    aside.rename(note)
    for file in labs:
        file.write_text(LAB)
    assert json.loads(serving("caretaker", "status", "--json").out)["running"]
    assert "The caretaker has stopped" in serving("caretaker", "stop").out
    assert "is not running" in serving("caretaker", "stop").out
    assert serving("caretaker", "status", code=1)


def test_what_a_full_disk_did_not_take_is_written_when_there_is_room(hosted: HostedLab) -> None:
    """The lab is read again meanwhile: that neither stops DHCP nor loses a lease."""
    state = hosted.folder / "state"
    state.mkdir()
    subprocess.run(["mount", "-t", "tmpfs", "-o", "size=4m,mode=700", "tmpfs", state], check=True)
    try:
        hosted.write(LAB)
        hosted("apply", "--no-wait")
        pid = hosted("caretaker", "status", "--json").json["pid"]
        with contextlib.suppress(OSError), (state / "filler").open("wb", buffering=0) as filler:
            for size in (1 << 12, 1):
                while filler.write(bytes(size)):
                    pass
        client = Client(hosted, STRANGER)
        client.run("udhcpc", "-i", "eth0", "-n", "-q", "-f", "-s", "/bin/true")
        assert leases(hosted) == {}
        os.kill(pid, signal.SIGHUP)
        client.run("ip", "link", "set", "eth0", "address", GAUGE)
        client.run("udhcpc", "-i", "eth0", "-n", "-q", "-f", "-s", "/bin/true")
        assert leases(hosted) == {}
        (state / "filler").unlink()
        client.run("udhcpc", "-i", "eth0", "-n", "-q", "-f", "-s", "/bin/true")
        assert leases(hosted).keys() == {"10.77.4.20", "10.77.4.100"}
    finally:
        hosted("stop", "--all", "--force", "--wait", "0s", code=None)
        hosted("caretaker", "stop", code=None)
        subprocess.run(["umount", "--lazy", state], check=True)


def test_a_caretaker_that_may_write_or_open_no_file_for_a_while_goes_on(serving: HostedLab) -> None:
    lab = serving
    lab("caretaker", "stop")
    said, kept = lab.folder / "said", lab.folder / "state/labs/real"
    for note in (kept / "caretaker.json", kept / "boot"):
        note.unlink(missing_ok=True)
        (note / "taken").mkdir(parents=True)
    with said.open("wb") as out:
        running = subprocess.Popen(
            lab.world.inside("host", PROGRAM, "caretaker", "run", "--lab", str(lab.file)), stderr=out, env=lab.env
        )
    until(lambda: "cannot record that the caretaker serves this lab" in said.read_text())
    client = Client(lab, STRANGER)
    client.run("udhcpc", "-i", "eth0", "-n", "-q", "-f", "-s", "/bin/true")
    assert "10.77.4.100 is leased" in said.read_text() and "cannot record that the lab was started" in said.read_text()
    shutil.rmtree(kept / "caretaker.json")
    until(lambda: lab("caretaker", "status", "--json", code=None).json["running"])
    pid = lab("caretaker", "status", "--json").json["pid"]
    usual = resource.prlimit(pid, resource.RLIMIT_NOFILE)

    def can_open_nothing() -> bool:
        """What it opened for a moment, when it was looked at, leaves room afterwards: it is looked at again."""
        held = {int(n) for n in os.listdir(f"/proc/{pid}/fd")}
        resource.prlimit(pid, resource.RLIMIT_NOFILE, (min(set(range(max(held) + 2)) - held), usual[1]))
        os.kill(pid, signal.SIGHUP)
        return "cannot serve the lab: OSError: [Errno 24] Too many open files" in said.read_text()

    until(can_open_nothing)
    resource.prlimit(pid, resource.RLIMIT_NOFILE, usual)
    client.run("ip", "link", "set", "eth0", "address", GAUGE)
    client.run("udhcpc", "-i", "eth0", "-n", "-q", "-f", "-s", "/bin/true")
    until(lambda: len(leases(lab)) == 2)
    lab("caretaker", "stop")
    assert running.wait(60) == 0, said.read_text()


def test_after_an_upgrade_the_caretaker_is_started_anew_and_keeps_its_leases(serving: HostedLab) -> None:
    """The one that runs was started by another installation: a copy of this one."""
    lab, world = serving, serving.world
    client = Client(lab, STRANGER)
    client.run("udhcpc", "-i", "eth0", "-n", "-q", "-f", "-s", "/bin/true")
    (had,) = leases(lab)
    lab("caretaker", "stop")
    shutil.copytree(Path(dacha.__file__).parent, lab.folder / "before/dacha", ignore=shutil.ignore_patterns("*.pyc"))
    subprocess.Popen(
        world.inside("host", sys.executable, "-P", "-m", "dacha.caretaker.run", str(lab.file)),
        env=lab.env | {"PYTHONPATH": str(lab.folder / "before")}, start_new_session=True,
    )  # fmt: skip
    until(lambda: lab("caretaker", "status", "--json", code=None).json["running"])
    before = lab("caretaker", "status", "--json").json
    assert before["older"] and "It runs another version of Dacha" in lab("caretaker", "status").out
    assert "start the caretaker again, with this version of Dacha" in lab("diff").out
    # What is meant for one guest leaves it as it is.
    lab("start", "gauge", "--no-wait")
    assert lab("caretaker", "status", "--json").json["pid"] == before["pid"]
    assert "started the caretaker again" in lab("apply", "--no-wait").out
    after = lab("caretaker", "status", "--json").json
    assert after["running"] and not after["older"] and after["pid"] != before["pid"] and had in leases(lab)
    assert lab("diff").out == "real: everything applied\n"


def test_guests_that_ask_for_a_router_in_vain_are_told_of() -> None:
    """A link that cannot send is no fault of those who ask, and whoever looks for it finds it in the log, once."""
    said: list[str] = []

    async def asked() -> None:
        places = {name: socket.socket(socket.AF_INET6, socket.SOCK_DGRAM) for name in ("icmp6", "dhcp6")}
        for place in places.values():
            place.bind(("::1", 0))
            place.setblocking(False)
        own = Advertisement(IPv6Network("fd77:4::/64"), True, (), "real.internal", bytes(6))
        service = Ip6Service("lo", own, None, places, said.append)  # type: ignore[arg-type]
        with socket.socket(socket.AF_INET6, socket.SOCK_DGRAM) as asker:
            for _ in range(5):  # an answer goes to port 0 here, which nothing sends to
                asker.sendto(bytes((133,)) + bytes(7), places["icmp6"].getsockname())
                await asyncio.sleep(0.05)
        service.close()

    asyncio.run(asked())
    assert said == ["cannot answer router solicitations: Invalid argument"]
