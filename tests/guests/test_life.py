"""The whole job with real guests under QEMU: from lab.toml to an SSH login, and every command on the way."""

import http.client
import json
import os
import pty
import select
import signal
import socket
import subprocess
import threading
import time
from pathlib import Path

import pytest

from tests.conftest import PROGRAM, Lab

TEXT = """\
[lab]
name = "saltmarsh"   # the pier

[network.pier]
kind = "nat"

[network.vault]
kind = "host-only"
subnet6 = "fd77:9::/64"

[guest.gauge]
@BOOT@
disk = [{ size = "64 MiB" }]
adapter = [{ network = "pier" }]
door.ssh = { from = "host" }

[guest.locker]
@BOOT@
adapter = [{ network = "vault", address6 = "fd77:9::10" }]
door.ssh = { from = "host" }
"""


def ports(lab: Lab, guest: str) -> dict[str, int]:
    return {d["name"]: int(d["port"]) for d in lab("door", "list", guest, "--json").json["doors"]}


def page(port: int) -> int:
    connection = http.client.HTTPConnection("127.0.0.1", port, timeout=60)
    connection.request("GET", "/tides.csv")
    return connection.getresponse().status


def test_a_lab_from_nothing_to_logins_and_back(guest_lab: Lab) -> None:
    lab = guest_lab
    lab.write(TEXT)

    # Applied: what was left out is written down, and the guests answer by SSH with keys nobody had to trust.
    said = lab("apply").out
    assert said.count("open") >= 2 and "created host key, disk 0 of 64 MiB, first-boot data; started" in said
    assert "# the pier" in lab.file.read_text()
    assert lab("diff").out == "saltmarsh: everything applied\n"
    assert lab("apply", "--no-wait").out == "saltmarsh: nothing to do, everything applied\n"

    # Each guest has its planned name and address, and nothing else was asked of it.
    plan = {a["guest"]: a for a in lab("address", "list", "--json").json["addresses"]}
    for guest in ("gauge", "locker"):
        told = lab(
            "connect",
            guest,
            "--",
            "hostname; ip -4 -o addr show eth0; cat /sys/class/net/eth0/address; cat /etc/resolv.conf",
        ).out
        assert told.splitlines()[0] == guest
        assert f"{plan[guest]['address']}/24" in told and plan[guest]["hardware_address"] in told
    assert "fd77:9::10" in lab("connect", "locker", "--", "ip -6 -o addr show eth0").out

    # The door is on loopback only, and nobody gets there but this host (tests/attacks/test_user_mode.py has the rest).
    lan = [a for a in _own_addresses() if a != "127.0.0.1"]
    for address in lan:
        with socket.socket() as s:
            assert s.connect_ex((address, ports(lab, "gauge")["ssh"])) != 0
    with socket.socket() as server:
        server.bind(("127.0.0.1", 0))
        server.listen()
        reach = f"timeout 5 nc -w 2 {{}} {server.getsockname()[1]} < /dev/null"
        gateways = {n["name"]: n["gateway"] for n in lab("network", "list", "--json").json["networks"]}
        for guest, network in (("gauge", "pier"), ("locker", "vault")):
            lab("connect", guest, "--", reach.format(gateways[network]), code=None)
        server.settimeout(0.1)
        with pytest.raises(TimeoutError):
            server.accept()

    # Status says so, to people and to scripts.
    status = lab("status")
    assert "saltmarsh: 2 guests, 2 on; everything applied" in status.out and "loopback" not in status.out
    assert "saltmarsh: 1 of 2 guests, 1 on; everything applied" in lab("status", "gauge").out
    rows = {g["name"]: g for g in lab("status", "--json").json["guests"]}
    assert rows["gauge"]["state"] == "on" and rows["gauge"]["doors"][0]["answers"] is True

    # A door added while the guest runs is opened live, and closed live; the guest's process stays the same.
    pid = lab.pid("gauge")
    lab("door", "add", "gauge", "web", "--service", "http", "--from", "lan")
    assert "not open yet: dacha apply" in lab("status", code=1).out
    lab("apply")
    web = ports(lab, "gauge")["web"]
    assert page(web) == 200
    lab("door", "remove", "gauge", "web")
    lab("apply")
    with pytest.raises(OSError):
        page(web)
    assert lab.pid("gauge") == pid

    # What only the next start can change waits for it, and is taken up by a restart.
    lab("guest", "edit", "gauge", "--memory", "160MiB")
    waiting = lab("diff").out
    assert "memory 128 MiB → 160 MiB" in waiting and "at next start" in waiting
    assert "1 change waits for a guest's next start: dacha restart gauge" in lab("apply").out
    lab("restart", "gauge", "--wait", "4min")
    assert int(lab("connect", "gauge", "--", "awk '/MemTotal/ {print $2}' /proc/meminfo").out) > 110_000
    assert lab("connect", "gauge", "--", "wc -l < /srv/readings/log").out.strip() == "2", "the disk kept its readings"

    # Stopped on purpose it stays off through an apply; everything is recorded.
    lab("stop", "--all")
    assert "left off, as it was stopped by command: dacha start gauge" in lab("apply").out
    assert {g["state"] for g in lab("status", "--json").json["guests"]} == {"off"}
    assert lab("console", "gauge", "--record").out.count("demo guest: ready") == 2


def _own_addresses() -> list[str]:
    rows = json.loads(subprocess.run(["ip", "-json", "-4", "addr"], capture_output=True, text=True, check=True).stdout)
    return [a["local"] for r in rows for a in r.get("addr_info", [])]


ONE = """\
[lab]
name = "one"
[network.pier]
kind = "nat"
isolated = true
[guest.gauge]
@BOOT@
adapter = [{ network = "pier" }]
door.ssh = { from = "host" }
"""


def test_pause_console_and_a_wrong_host_key(guest_lab: Lab) -> None:
    lab = guest_lab
    lab.write(ONE)
    lab("apply")

    # The SSH command is the system's, with everything filled in; a guest with another key is refused.
    shown = lab("connect", "gauge", "--show").out
    assert "StrictHostKeyChecking=yes" in shown and "HostKeyAlias=gauge.one.internal" in shown
    known = lab.folder / "state/labs/one/known_hosts"
    right = known.read_text()
    other = (lab.folder / "id.pub").read_text().split()[1]
    known.write_text(
        "\n".join(line.rsplit(" ", 1)[0] + " " + other for line in right.splitlines() if line[0] != "#") + "\n"
    )
    refused = lab("connect", "gauge", "--", "true", code=255)
    assert "HOST IDENTIFICATION HAS CHANGED" in refused.err
    known.write_text(right)
    assert lab("connect", "gauge", "--", "exit 7", code=7).code == 7
    answer = lab("connect", "gauge", "--json", "--", "echo tide; exit 3", code=3).json
    assert (answer["exit_code"], answer["out"]) == (3, "tide\n")
    # Who does not get in is told the hop and its cause, as trace has it.
    mine, other_key = lab.folder / "id", lab.folder / "other"
    kept = mine.read_bytes()
    subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", other_key], check=True)
    mine.write_bytes(other_key.read_bytes())
    refused = lab("connect", "gauge", "--", "true", code=255).err
    assert "login: ops is refused: " in refused and "all hops, and the remedy: dacha trace gauge ssh" in refused
    mine.write_bytes(kept)

    # Paused, it says so and its door is not called broken; resumed, it answers.
    lab("pause", "gauge")
    assert "already paused" in lab("pause", "gauge").out
    assert "guest is paused" in lab("status").out
    said = lab("connect", "gauge", "--", "true", code=1, timeout=20).err
    assert "gauge is paused, so it does not respond" in said and "dacha resume gauge" in said
    lab("resume", "gauge")
    assert lab("connect", "gauge", "--", "echo back").out == "back\n"

    # A person at a terminal; a second one is told who is there; the leave key leaves the guest on.
    pid, terminal = pty.fork()
    if pid == 0:
        os.chdir(lab.folder)
        os.execve(PROGRAM, [PROGRAM, "console", "gauge"], lab.env)
    try:
        read_until(terminal, b"Ctrl-] detaches")
        os.write(terminal, b"\recho typed-$((40 + 2))\r")
        read_until(terminal, b"typed-42")
        assert "held by dacha console gauge" in lab("console", "gauge", code=3).err
        os.write(terminal, b"\x1d")
        read_until(terminal, b"keeps running")
    finally:
        os.close(terminal)
        os.waitpid(pid, 0)
    assert "typed-42" in lab("console", "gauge", "--record").out
    assert lab("status").code == 0

    # Followed, the record ends with the guest's last words.
    follower = subprocess.Popen(
        [PROGRAM, "console", "gauge", "--follow"], cwd=lab.folder, env=lab.env, stdout=subprocess.PIPE
    )
    lab("stop", "gauge")
    said, _ = follower.communicate(timeout=60)
    assert b"typed-42" in said and b"demo guest: power button" in said


def test_a_changed_host_key_is_given_back_or_accepted_as_the_remedy_says(guest_lab: Lab) -> None:
    lab = guest_lab
    lab.write(ONE)
    lab("apply")
    right = lab("guest", "host-key", "gauge", "--json").json
    assert right["same"] and right["trusted"].startswith("SHA256:") and not right["accepted"]
    # Typed on its console, where it is root: another key is made inside.
    with socket.socket(socket.AF_UNIX) as console:
        console.connect(f"{lab.env['DACHA_RUN']}/one/gauge/serial")
        console.sendall(b"kill $(pidof dropbear); sleep 1; dropbear -R -s; echo new''key\n")
        deadline = time.monotonic() + 60
        while "newkey" not in (typed := lab("console", "gauge", "--record").out):
            assert time.monotonic() < deadline, typed[-500:]
            time.sleep(0.2)
    deadline = time.monotonic() + 60
    while (said := lab("trace", "gauge", "--json", code=None).json)["broken"] != "key":
        assert time.monotonic() < deadline, said
    remedy = said["hops"][-1]["remedy"]
    assert "dacha guest first-boot gauge --again, then dacha restart gauge" in remedy
    assert "dacha guest host-key gauge --accept" in remedy
    other = lab("guest", "host-key", "gauge", code=1).out
    assert "The guest presents another key than the trusted one" in other and right["trusted"] in other
    # Accepted, loudly, it is trusted by everything.
    accepted = lab("guest", "host-key", "gauge", "--accept").out
    assert "CAREFUL" in accepted and "return to the key that Dacha created" in accepted
    assert lab("trace", "gauge", "--json").json["answers"] and lab("connect", "gauge", "--", "echo in").out == "in\n"
    # Given back: the guest takes its first-boot data up as another instance.
    documents = lab("guest", "first-boot", "gauge", "--json").json["documents"]
    assert "PRIVATE KEY" not in documents["user-data"] and "stored by Dacha" in documents["user-data"]
    assert "applies its first-boot data again" in lab("guest", "first-boot", "gauge", "--again").out
    again = lab("guest", "first-boot", "gauge", "--json").json["documents"]
    assert again["meta-data"] != documents["meta-data"]
    lab("restart", "gauge", "--wait", "4min")
    assert lab("guest", "host-key", "gauge", "--json").json == right
    assert lab("trace", "gauge", "--json").json["answers"] and lab("diff").out == "one: everything applied\n"


@pytest.mark.whole
def test_a_guest_at_a_tenth_of_its_speed_is_waited_for_and_not_asked_again_and_again(guest_lab: Lab) -> None:
    """It is held still nine tenths of the time. Its server counts who came while it was booting."""
    lab = guest_lab
    lab.write(ONE)
    lab("apply", "--no-wait")
    pid, slow = lab.pid("gauge"), threading.Event()

    def hold() -> None:
        while not slow.is_set():
            os.kill(pid, signal.SIGSTOP)
            time.sleep(0.09)
            os.kill(pid, signal.SIGCONT)
            time.sleep(0.01)

    holding = threading.Thread(target=hold)
    holding.start()
    try:
        done = lab("apply", "--wait", "10 min", timeout=660)
    finally:
        slow.set()
        holding.join()
    assert "door gauge ssh" in done.out and "open" in done.out
    came = int(lab("connect", "gauge", "--", "grep -c 'Child connection' /var/log/dropbear").out)
    took = float(done.out.partition("after ")[2].partition(" s")[0])
    print(f"open after {took:.0f} s, {came - 1} connections while it was booting")
    assert took > 10 and came - 1 < 30


def read_until(fd: int, words: bytes, timeout_s: float = 90.0) -> bytes:
    """What a terminal shows up to `words`."""
    seen, deadline = b"", time.monotonic() + timeout_s
    while words not in seen:
        ready, _, _ = select.select([fd], [], [], max(0.0, deadline - time.monotonic()))
        assert ready, f"waited for {words!r}, saw {seen!r}"
        try:
            seen += os.read(fd, 4096)
        except OSError:
            break
    assert words in seen, seen
    return seen


def test_an_overlay_and_both_buses_reach_the_guest(guest_lab: Lab) -> None:
    lab = guest_lab
    base = lab.folder / "base.qcow2"
    subprocess.run(["qemu-img", "create", "-q", "-f", "qcow2", base, "48M"], check=True)
    before = base.read_bytes()
    lab.write(
        ONE.replace(
            "@BOOT@",
            '@BOOT@\ndisk = [{ from = "base.qcow2", size = "80 MiB" }, { size = "32 MiB", bus = "nvme" }, '
            '{ size = "16 MiB", allocation = "full" }]\n',
        )
    )
    lab("apply")
    sizes = lab("connect", "gauge", "--", "grep -H . /sys/block/vd?/size; cat /sys/block/nvme0n1/size").out
    assert all(f"{(mib << 20) // 512}" in sizes for mib in (80, 32, 16))
    assert base.read_bytes() == before, "the image a disk starts from is never written to"
    full = Path(lab.guest_folder("gauge") / "disk-2.qcow2").stat()
    assert full.st_blocks * 512 >= 16 << 20
    said = lab("guest", "remove", "gauge").out
    assert said.count(" is kept: ") == 3 and "dacha apply stops it" in said
    assert "not in the lab file" in lab("status").out
    assert "stopped: it is no longer in the lab file" in lab("apply").out
    disk = lab.guest_folder("gauge") / "disk-0.qcow2"
    assert disk.exists()

    # Written again, a guest of its name does not take them in silence; told by name, it does.
    lab.write(ONE.replace("@BOOT@", '@BOOT@\ndisk = [{ size = "80 MiB" }]\n'))
    assert "disk 0 of an earlier guest gauge" in lab("apply", "--no-wait", code=3).err
    lab("guest", "edit", "gauge", "--attach-disk", "0")
    lab("apply", "--no-wait")
    # And so it takes its disks along when it goes, once it is stopped.
    said = lab("guest", "remove", "gauge", "--with-disks").out
    assert "its disk 0 will be deleted: " in said and str(disk) in said and "It is still on" in said
    assert disk.exists()
    lab("stop", "gauge", "--force", "--wait", "0s")
    assert "deleted disk 0" in lab("apply").out
    assert not disk.exists() and not disk.parent.exists()


@pytest.mark.whole
def test_a_guest_with_too_little_memory_is_not_waited_for(guest_lab: Lab) -> None:
    lab = guest_lab
    door = 'adapter = [{ network = "pier" }]\ndoor.ssh = { from = "host" }\n'
    lab.write(f'[lab]\nname = "small"\n[network.pier]\nkind = "nat"\n[guest.fir]\n@BOOT@\n{door}')
    small = lab.file.read_text().replace('"128 MiB"', '"64 MiB"')
    lab.file.write_text(small)
    # The kernel says so, and starts anew: it comes to the same for ever.
    began = time.monotonic()
    said = lab("apply", "--wait", "10min", code=1, timeout=200).err
    assert "its kernel panicked: Kernel panic" in said and "memory" in said
    assert time.monotonic() - began < 150
    hop = next(h for h in lab("trace", "fir", "--json", code=1).json["hops"] if h["name"] == "boot")
    assert "memory" in hop["means"] and hop["remedy"].startswith(
        "dacha guest edit fir --memory 128MiB, then dacha restart"
    )
    # What cannot even be loaded is said beforehand.
    lab("stop", "fir", "--force", "--wait", "0s")
    lab.file.write_text(small.replace('"64 MiB"', '"32 MiB"'))
    assert "its kernel and initrd need" in lab("check", code=1).out
    lab("guest", "edit", "fir", "--memory", "128MiB")
    lab("start", "fir", timeout=200)
