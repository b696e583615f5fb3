"""NAT and host-only networks on the kernel, with real guests: what must pass passes, what must not does not."""

from __future__ import annotations

import os
import shutil
import signal
import socket
import tempfile
import time
from pathlib import Path

import pytest

from dacha.core.lab.names import link_name
from tests.networks.world import PYTHON, HostedLab, hold, until

LAB = """\
[lab]
name = "real"
[network.pier]
kind = "nat"
backend = "kernel"
subnet = "10.77.4.0/24"
subnet6 = "fd77:4::/64"
[network.vault]
kind = "host-only"
backend = "kernel"
subnet = "10.77.9.0/24"
[guest.gauge]
@BOOT@
adapter = [{ network = "pier", address = "10.77.4.20", address6 = "fd77:4::20" }]
door.ssh = { from = "lan", port = 2220 }
door.http = { from = "lan", port = 8020, allow = ["192.0.2.20", "2001:db8:1::14"] }
door.six = { service = "ssh", from = "lan", port = 2226, listen = "2001:db8:1::a" }
[guest.charts]
@BOOT@
adapter = [
  { network = "pier", address = "10.77.4.21", address6 = "fd77:4::21" },
  { network = "vault", address = "10.77.9.21" },
]
door.ssh = { from = "host", port = 2221 }
"""
SSH = "SSH-2.0"


def reads_in(lab: HostedLab, guest: str, address: str, port: int, timeout_s: float = 20.0) -> str:
    """What a guest gets from a service: its first line, or nothing. Who expects nothing says for how long."""
    asked = f"nc -w {timeout_s:.0f} {address} {port} < /dev/null | head -n 1"
    return lab("connect", guest, "--", asked).out.strip()


def ruleset(lab: HostedLab) -> str:
    return lab.world.run("host", "nft", "--stateless", "list", "ruleset")


def test_every_direction_that_is_open_and_every_one_that_is_shut(hosted: HostedLab) -> None:
    lab, world = hosted, hosted.world
    # Another program's rules and links, which must come out of it all as they went in.
    world.run("host", "nft", "add table inet other; add chain inet other c; add rule inet other c tcp dport 9 drop")
    before = ruleset(lab)
    forwarding = world.run("host", "sysctl", "net.ipv4.ip_forward", "net.ipv6.conf.all.forwarding")
    links = world.run("host", "ip", "-brief", "address")
    lab.write(LAB)
    lab("apply")
    assert lab("diff").out == "real: everything applied\n"
    assert all(d["answers"] for g in lab("status", "--json").json["guests"] for d in g["doors"])

    # Doors: from the LAN by either family, from this host's loopback and address, from a neighbour of the same network.
    assert world.greets("lan", "192.0.2.10", 2220)
    assert world.greets("lan", "2001:db8:1::a", 2220)
    assert world.greets("host", "127.0.0.1", 2220)
    assert world.greets("host", "192.0.2.10", 2220)
    assert reads_in(lab, "charts", "192.0.2.10", 2220).startswith(SSH)
    # A door from the host only, and one that admits one machine only.
    assert world.greets("host", "127.0.0.1", 2221)
    assert world.reads("lan", "192.0.2.10", 2221) == "refused"
    for where in ("192.0.2.10", "2001:db8:1::a"):
        assert "400 Bad Request" in world_page(lab, "lan", where) and world_page(lab, "other", where) == "silent"
    # A door at one IPv6 address of this host is at no other.
    assert world.greets("lan", "2001:db8:1::a", 2226)
    assert world.reads("lan", "192.0.2.10", 2226) == "refused"
    # Host to guest, guest to guest, both families.
    assert world.greets("host", "10.77.4.20", 22)
    assert world.greets("host", "fd77:4::20", 22)
    for address in ("10.77.4.20", "fd77:4::20"):
        assert reads_in(lab, "charts", address, 22).startswith(SSH)
    # By name, which the caretaker answers for, and back from an address to its name.
    assert reads_in(lab, "charts", "gauge.real.internal", 22).startswith(SSH)
    assert "gauge.real.internal" in lab("connect", "charts", "--", "nslookup 10.77.4.20").out
    # Out through NAT: the outside sees this host, by both families.
    outside = [world.serve("router", "198.51.100.1", 7, "seen"), world.serve("lan", "2001:db8:1::14", 7, "seen")]
    try:
        assert reads_in(lab, "gauge", "198.51.100.1", 7) == "seen 192.0.2.10"
        assert reads_in(lab, "gauge", "2001:db8:1::14", 7) == "seen 2001:db8:1::a"
    finally:
        for process in outside:
            process.kill()
            process.wait()
    # In without a door: a machine on the LAN that knows the way is stopped, at both networks.
    world.run("lan", "ip", "route", "add", "10.77.0.0/16", "via", "192.0.2.10")
    world.run("lan", "ip", "-6", "route", "add", "fd77:4::/64", "via", "2001:db8:1::a")
    assert world.reads("lan", "10.77.4.20", 22, 1.5) == "silent"
    assert world.reads("lan", "fd77:4::20", 22, 1.5) == "silent"
    assert world.reads("lan", "10.77.9.21", 22, 1.5) == "silent"
    assert world.greets("host", "10.77.9.21", 22)

    # All of it leaves no trace, and what others have is as it was.
    lab.file.write_text('[lab]\nname = "real"\n')
    said = lab("apply").out
    assert "restored the forwarding setting" in said and "removed its rules" in said
    assert ruleset(lab) == before
    assert world.run("host", "ip", "-brief", "address") == links
    assert world.run("host", "sysctl", "net.ipv4.ip_forward", "net.ipv6.conf.all.forwarding") == forwarding


def world_page(lab: HostedLab, machine: str, where: str) -> str:
    """The first line of the guest's web server, asked badly so that it says something by itself."""
    code = (
        f"import socket\ntry:\n s=socket.create_connection(({where!r},8020),2)\n s.sendall(b'X\\n\\n')\n"
        " print(s.recv(64).decode().splitlines()[0])\nexcept OSError: print('silent')\n"
    )
    return lab.world.run(machine, *PYTHON, "-c", code).strip()


@pytest.mark.whole
def test_a_host_only_guest_gets_nowhere(hosted: HostedLab) -> None:
    lab, world = hosted, hosted.world
    lab.write(
        LAB.partition("[guest.charts]")[0]
        + '[guest.locker]\n@BOOT@\nadapter = [{ network = "vault", address = "10.77.9.10" }]\n'
        + 'door.ssh = { from = "host", port = 2222 }\n'
    )
    lab("apply")
    outside = world.serve("router", "198.51.100.1", 7, "seen")
    try:
        # Not outside, not to the other network, not through a door that the whole LAN may enter.
        assert reads_in(lab, "locker", "198.51.100.1", 7, 3) == ""
        assert reads_in(lab, "locker", "10.77.4.20", 22, 3) == ""
        assert reads_in(lab, "locker", "192.0.2.10", 2220, 3) == ""
        # And a NAT guest does not get in.
        assert reads_in(lab, "gauge", "10.77.9.10", 22, 3) == ""
    finally:
        outside.kill()
        outside.wait()
    # An address that is not its own gets a guest nowhere either, though its neighbour's is free to be had.
    spoof(lab, "locker", "10.77.9.99")
    assert world.run("host", "ping", "-c1", "-W1", "-I", "10.77.9.1", "10.77.9.99", check=False).count(" 0 received")
    assert world.greets("host", "10.77.9.10", 22)
    # Which address it uses is seen on the wire all the same, and said.
    deadline = time.monotonic() + 120
    while not (row := lab("address", "list", "--json").json["addresses"][1])["conflict"]:
        assert time.monotonic() < deadline, row
        world.run(
            "host", "arping", "-c1", "-w1", "-I", link_name("real", "network", "vault"), "10.77.9.99", check=False
        )
    assert (row["guest"], row["seen"]) == ("locker", "10.77.9.99")
    log = (lab.folder / "state/labs/real/caretaker.log").read_text()
    assert "locker uses 10.77.9.99, but 10.77.9.10 is planned" in log
    assert "it uses 10.77.9.99 on vault, but 10.77.9.10 is planned" in lab("check").out
    # A link that is removed under a guest is made again, and the guest is on it at once, without a start.
    before = lab.pid("locker")
    world.run("host", "ip", "link", "delete", link_name("real", "guest", "locker", "0"))
    assert "attach adapter 0 again: the link under it was removed" in lab("diff").out
    assert "attached adapter 0 again" in lab("apply").out
    assert lab("diff").out == "real: everything applied\n" and lab.pid("locker") == before
    assert world.greets("host", "10.77.9.10", 22)
    # It does not turn a whole processor any more.
    used = [cpu_seconds(before), time.sleep(2), cpu_seconds(before)]
    assert used[2] - used[0] < 1.0, used


@pytest.mark.whole
def test_a_command_about_one_guest_touches_no_other(hosted: HostedLab) -> None:
    """A guest that has left the file, but is not applied away yet, keeps its link, its door and its pins."""
    lab, world = hosted, hosted.world
    lab.write(LAB.replace('address6 = "fd77:4::21" },', 'address6 = "fd77:4::21" },', 1))
    lab("apply")
    taps = [link_name("real", "guest", "charts", n) for n in "01"]
    rules = ruleset(lab)
    lab.file.write_text(lab.file.read_text().partition("[guest.charts]")[0])
    lab("restart", "gauge", "--force", "--wait", "0s")
    shown = world.run("host", "ip", "-brief", "link")
    assert all(tap in shown for tap in taps), shown
    assert ruleset(lab) == rules
    assert world.greets("host", "127.0.0.1", 2221), "the other guest's door"
    assert "stop: it is no longer in the lab file" in lab("diff").out
    lab("apply")
    assert not any(tap in world.run("host", "ip", "-brief", "link") for tap in taps)


def cpu_seconds(pid: int) -> float:
    fields = Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()
    return (int(fields[11]) + int(fields[12])) / os.sysconf("SC_CLK_TCK")


def test_doors_follow_a_guest_whose_address_is_handed_out(hosted: HostedLab) -> None:
    lab, world = hosted, hosted.world
    lab.write(
        LAB.partition("[network.vault]")[0].replace(
            "[network.pier]", '[network.pier]\ndynamic = "10.77.4.100-10.77.4.120"'
        )
        + '[guest.buoy]\n@BOOT@\nadapter = [{ network = "pier", address = "dynamic" }]\n'
        + 'door.ssh = { from = "lan", port = 2230 }\n'
    )
    assert "opens buoy ssh" not in lab("diff").out, "where it leads is not known yet"
    assert "door buoy ssh" in lab("apply").out
    (row,) = lab("address", "list", "--json").json["addresses"]
    first = row["seen"]
    assert row["address"] is None and row["seen_by"] == "lease" and first.startswith("10.77.4.1")
    assert world.greets("lan", "192.0.2.10", 2230)
    assert "buoy.real.internal" in lab("connect", "buoy", "--", f"nslookup {first}").out
    # It moves without asking anybody: its door is where it is, and what it had before is not believed any more.
    moved = time.monotonic()
    move = "ip address flush dev eth0; ip address add {}/24 dev eth0; ip route add 0/0 via 10.77.4.1; (ping -c1 {} &)"
    on_console(lab, "buoy", move.format("10.77.4.117", "10.77.4.1"))
    while not world.reads("lan", "192.0.2.10", 2230, 5.0).startswith(SSH):
        assert time.monotonic() < moved + 120, lab("caretaker", "status").out
    print(f"the door followed within {time.monotonic() - moved:.1f} s")
    assert lab("diff").out == "real: everything applied\n"
    # A door that is new is named, waited for and found open.
    lab("door", "add", "buoy", "http", "--from", "lan")
    said = lab("apply").out
    assert "opens buoy http" in said and "door buoy http" in said, said
    # An address that is planned for somebody is not its to have, nor the gateway's.
    on_console(lab, "buoy", move.format("10.77.4.2", "10.77.4.9"))
    until(lambda: lab("address", "list", "--json").json["addresses"][0]["conflict"])
    assert "NOT AVAILABLE" in lab("address", "list").out
    assert world.reads("lan", "192.0.2.10", 2230, 1.0) in ("refused", "silent")


def spoof(lab: HostedLab, guest: str, address: str) -> None:
    """Give a guest one more address."""
    on_console(lab, guest, f"ip address add {address}/24 dev eth0")


def on_console(lab: HostedLab, guest: str, command: str) -> None:
    """Run a command in a guest by its own console, where it is root."""
    done = f"done {time.monotonic_ns()}"
    with socket.socket(socket.AF_UNIX) as console:
        console.connect(f"{lab.env['DACHA_RUN']}/real/{guest}/serial")
        console.sendall(f"{command}; echo ''{done[:4]}''{done[4:]}\n".encode())
        deadline = time.monotonic() + 120
        while done not in (said := lab("console", guest, "--record").out):
            assert time.monotonic() < deadline, said[-500:]
            time.sleep(0.2)


def test_apply_converges_from_anything(hosted: HostedLab) -> None:
    lab, world = hosted, hosted.world
    lab.write(LAB.partition("[guest.gauge]")[0])
    lab("apply")
    assert lab("diff").out == "real: everything applied\n"
    whole = ruleset(lab), world.run("host", "ip", "-brief", "address")
    bridge = link_name("real", "network", "pier")
    for damage in (
        "nft delete chain inet dacha_real forward 2>/dev/null || nft flush chain inet dacha_real forward",
        "nft delete table inet dacha_real",
        "nft delete table bridge dacha_real",
        "nft add rule inet dacha_real forward accept",
        f"ip link set {bridge} down",
        f"ip address delete 10.77.4.1/24 dev {bridge}",
        f"ip address add 203.0.113.7/24 dev {bridge}",
        "sysctl -qw net.ipv4.ip_forward=0",
        f"sysctl -qw net.ipv4.conf.{bridge}.route_localnet=0",
        f"ip link delete {bridge}",
        "nft flush ruleset",
    ):
        # The caretaker would be quicker than the next command.
        caretaker = hold(lab)
        world.run("host", "sh", "-c", damage)
        assert lab("diff").out != "real: everything applied\n", damage
        lab("apply")
        assert lab("diff").out == "real: everything applied\n", damage
        assert ruleset(lab) == whole[0], damage
        os.kill(caretaker, signal.SIGCONT)
        if damage in ("nft flush ruleset", "sysctl -qw net.ipv4.ip_forward=0", f"ip link delete {bridge}"):
            # The caretaker itself: rules, a setting, a link.
            world.run("host", "sh", "-c", damage)
            until(lambda: lab("diff").out == "real: everything applied\n" and ruleset(lab) == whole[0])
    log_file = lab.folder / "state/labs/real/caretaker.log"
    for _ in range(5):
        # On a busy machine its own look may come before the kernel has told who it was.
        if "changed by nft (process" in log_file.read_text():
            break
        world.run("host", "nft", "flush", "ruleset")
        until(lambda: ruleset(lab) == whole[0])
    until(lambda: "changed by nft (process" in log_file.read_text())  # written once all is restored
    log = log_file.read_text()
    assert "changed by nft (process" in log and "restored: created network pier" in log

    # Another lab beside it is not touched, and neither is forwarding while one of the two needs it.
    other = lab.folder / "other.toml"
    other.write_text(
        '[lab]\nname = "second"\n[network.pier]\nkind = "nat"\nbackend = "kernel"\nsubnet = "10.77.7.0/24"\n'
    )
    lab("apply", "--lab", str(other))
    assert "dacha_second" in ruleset(lab)
    lab.file.write_text('[lab]\nname = "real"\n')
    assert "forwarding" not in lab("apply").out
    assert "dacha_real" not in ruleset(lab) and "dacha_second" in ruleset(lab)
    assert "= 1" in world.run("host", "sysctl", "net.ipv4.ip_forward")
    other.write_text('[lab]\nname = "second"\n')
    assert "restored the forwarding setting" in lab("apply", "--lab", str(other)).out


def test_what_cannot_be_is_one_clear_message(hosted: HostedLab) -> None:
    lab, world = hosted, hosted.world
    lab.write(LAB.partition("[guest.gauge]")[0])
    # A subnet that this host reaches already, through a tunnel say.
    world.run("host", "ip", "route", "add", "10.77.4.0/25", "via", "192.0.2.1")
    said = lab("apply", code=2).err
    assert "10.77.4.0/24 overlaps 10.77.4.0/25, which is in use on this host" in said
    world.run("host", "ip", "route", "delete", "10.77.4.0/25")
    # A link of another's with the name that Dacha would use.
    name = (
        next(c["what"] for c in lab("diff", "--json").json["changes"] if "network pier" in c["what"])
        .split("(")[1]
        .split(",")[0]
    )
    world.run("host", "ip", "link", "add", name, "type", "bridge")
    said = lab("apply", code=3).err
    assert f"this host already has a link {name}, which is not Dacha's" in said
    world.run("host", "ip", "link", "delete", name)
    # No program, no privilege.
    hidden = ["unshare", "-m", "sh", "-c", 'mount --bind /dev/null "$(command -v nft)" && exec "$@"', "sh"]
    said = lab.without(hidden, "apply").err
    assert "nft is not installed" in said and "apt install nftables" in said
    said = lab.without(["setpriv", "--bounding-set=-all", "--inh-caps=-all"], "apply").err
    assert "run it as root" in said
    nobody = ["setpriv", "--reuid=65534", "--regid=65534", "--clear-groups", "env"]
    assert "cannot look into" in lab.without(nobody, "apply").err
    with tempfile.TemporaryDirectory() as folder:
        Path(folder).chmod(0o777)
        shutil.copy(lab.file, folder)
        places = [f"HOME={folder}", *(f"DACHA_{n}={folder}/{n.lower()}" for n in ("STATE", "RUN", "SHARED"))]
        said = lab.without([*nobody, *places], "apply", "--lab", f"{folder}/lab.toml").err
    assert "it is a kernel network, and only root can create links and rules" in said
    assert "dacha_real" not in ruleset(lab)


@pytest.mark.whole
def test_a_running_guest_keeps_its_address_until_its_next_start_and_its_doors_go_with_it(hosted: HostedLab) -> None:
    lab, world = hosted, hosted.world
    lab.write(LAB.partition("[guest.charts]")[0])
    lab("apply")
    lab("guest", "edit", "gauge", "--address", "10.77.4.30")
    said = lab("apply", "--no-wait").out
    assert "address 10.77.4.20 → 10.77.4.30" in said and "at next start" in said
    # Applied, and not started again: everything leads to where it is, and says so.
    assert world.greets("lan", "192.0.2.10", 2220)
    (row,) = lab("status", "--json").json["guests"]
    assert row["addresses"][0].startswith("10.77.4.20") and all(d["answers"] for d in row["doors"])
    traced = lab("trace", "gauge", "ssh", "--json").json
    assert traced["answers"] and traced["warnings"] == ["applied"]
    lab("restart", "gauge")
    assert world.greets("lan", "192.0.2.10", 2220)
    (row,) = lab("status", "--json").json["guests"]
    assert row["addresses"][0].startswith("10.77.4.30") and all(d["answers"] for d in row["doors"])
    assert lab("trace", "gauge", "ssh", "--json").json["warnings"] == [] and lab("diff").out.endswith("applied\n")
    assert "10.77.4.30/24" in lab("connect", "gauge", "--", "ip address show dev eth0").out
