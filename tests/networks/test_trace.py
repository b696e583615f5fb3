"""`trace` and `probe` on a host with real guests: without privileges, interrupted, without a lab. What they say of
faults is in tests/faults.
"""

from __future__ import annotations

import fcntl
import os
import pty
import shlex
import signal
import subprocess
import termios
import time
from pathlib import Path
from typing import Any

import pytest

from tests.conftest import PROGRAM
from tests.networks.test_kernel_nat import on_console
from tests.networks.world import HostedLab, World

LAB = """\
[lab]
name = "real"
[network.pier]
kind = "nat"
backend = "kernel"
subnet = "10.77.4.0/24"
[guest.gauge]
@BOOT@
adapter = [{ network = "pier", address = "10.77.4.20" }]
door.ssh = { from = "lan", port = 2220 }
"""
ON_LAN = """\
[lab]
name = "real"
[network.quay]
kind = "bridge"
interface = "eth0"
subnet = "192.0.2.0/24"
[guest.gauge]
@BOOT@
adapter = [{ network = "quay", address = "192.0.2.40" }]
door.ssh = { from = "lan" }
"""


def test_a_port_is_asked_from_anywhere_without_a_lab(hosted: HostedLab) -> None:
    lab, world = hosted, hosted.world
    service = world.serve("other", "0.0.0.0", 22, "SSH-2.0-made-up")
    try:
        assert lab("probe", "192.0.2.30:22").out.startswith("192.0.2.30:22 answers as ssh: SSH-2.0-made-up")
        assert "does not answer as http" in lab("probe", "192.0.2.30:22", "--as", "http", code=1).out
        assert "no program listens there" in lab("probe", "192.0.2.30:23", code=1).out
        # A firewall that says no is told from a port that does, and from one that says nothing.
        world.run(
            "other",
            "nft",
            "add table ip fw; add chain ip fw i { type filter hook input priority 0; }; "
            "add rule ip fw i tcp dport 22 reject with icmp type admin-prohibited; add rule ip fw i tcp dport 24 drop",
        )
        assert "rejected by a firewall on the path" in lab("probe", "192.0.2.30:22", code=1).out
        assert "no answer within 1 s" in lab("probe", "192.0.2.30:24", "--wait", "1s", code=1).out
    finally:
        service.kill()
        service.wait()


def test_without_privileges_it_says_what_it_could_not_look_at_and_goes_on(hosted: HostedLab) -> None:
    lab = hosted
    lab.write(LAB)
    lab("apply")
    nobody = ["setpriv", "--reuid=65534", "--regid=65534", "--clear-groups", "--"]
    places = [lab.folder, lab.folder / "state", Path(lab.env["DACHA_RUN"]), *(lab.folder / "state").rglob("*")]
    places += Path(lab.env["DACHA_RUN"]).rglob("*")
    for place in places:
        os.chown(place, 65534, 65534)
    lab.folder.parent.chmod(0o755)
    lab.folder.parent.parent.chmod(0o755)
    try:
        said = lab.without(nobody, "trace", "gauge", "ssh", "--json", code=0).json
    finally:
        for place in places:
            os.chown(place, 0, 0)
    verdicts = {h["name"]: (h["verdict"], h["seen"]) for h in said["hops"]}
    assert {n for n, (v, seen) in verdicts.items() if seen == "only root can read it"} >= {"adapter", "door-rule"}
    assert verdicts["protocol"][0] == verdicts["key"][0] == verdicts["door"][0] == "fine"


def ssh_server(world: World, machine: str, folder: Path, image: Any, key: Path) -> subprocess.Popen[bytes]:
    """A real SSH server on a machine of the world, out of the demo guest's image and in it: the key's owner gets in as
    root."""
    root = folder / "server"
    for place in ("etc/dropbear", "root/.ssh"):
        (root / place).mkdir(parents=True, mode=0o700)
    with image.initrd.open("rb") as archive:
        subprocess.run(["cpio", "-idu", "--quiet"], cwd=root, stdin=archive, check=True)
    root.chmod(0o755)
    (root / "etc/passwd").write_text("root:x:0:0:root:/root:/bin/sh\n")
    (root / "root/.ssh/authorized_keys").write_text(key.read_text())
    command = world.inside(machine, "chroot", root, "/usr/sbin/dropbear", "-F", "-E", "-s", "-R")
    server = subprocess.Popen(command, stderr=subprocess.DEVNULL)
    deadline = time.monotonic() + 120
    while not world.reads(machine, "127.0.0.1", 22).startswith("SSH-"):
        assert server.poll() is None and time.monotonic() < deadline
    return server


@pytest.mark.whole
def test_another_machine_tries_the_way_too(hosted: HostedLab, tmp_path: Path, image: Any) -> None:
    """By the SSH that it has: what it gets is compared with what this host gets."""
    lab, world = hosted, hosted.world
    lab.write(LAB + 'door.own = { service = "ssh", from = "host", port = 2290 }\n')
    # The client's own configuration is this user's; here it is the test's.
    wrapper, config = tmp_path / "bin/ssh", tmp_path / "ssh_config"
    wrapper.parent.mkdir()
    wrapper.write_text(f'#!/bin/sh\nexec /usr/bin/ssh -F {config} "$@"\n')
    wrapper.chmod(0o755)
    config.write_text(f"IdentityFile {tmp_path}/id\nStrictHostKeyChecking no\nUserKnownHostsFile {tmp_path}/known\n")
    lab.env["PATH"] = f"{wrapper.parent}:{lab.env['PATH']}"
    lab("apply")
    server = ssh_server(world, "lan", tmp_path, image, tmp_path / "id.pub")

    print(lab("trace", "gauge", "ssh", "--at", "root@192.0.2.99", "--all", code=None).out)

    def there(machine: str = "root@192.0.2.20") -> tuple[int, dict[str, str]]:
        said = lab("trace", "gauge", "ssh", "--at", machine, "--no-login", "--all", "--json", code=None)
        return said.code, dict(next(h for h in said.json["hops"] if h["name"] == "there"))

    try:
        code, hop = there()
        assert (code, hop["verdict"]) == (0, "fine") and "SSH-2.0-dropbear" in hop["seen"], hop
        said = lab("trace", "gauge", "ssh", "--at", "root@192.0.2.20").out
        assert "from there" in said and "root@192.0.2.20 connects: SSH-2.0-dropbear" in said
        drops = (
            "add table ip f; add chain ip f o { type filter hook output priority 0; }; add rule ip f o tcp dport 2220"
        )
        for rule, how in (("drop", "no answer"), ("reject with tcp reset", "refused")):
            world.run("lan", "nft", f"{drops} {rule}")
            code, hop = there()
            assert (code, hop["verdict"]) == (1, "broken") and how in hop["seen"], hop
            world.run("lan", "nft", "delete table ip f")
        # Over there that address leads to another server.
        led = "add table ip f; add chain ip f o { type nat hook output priority -100; }; add rule ip f o tcp dport 2220"
        world.run("lan", "nft", f"{led} redirect")
        twin = world.serve("lan", "0.0.0.0", 2220, "SSH-2.0-another")
        code, hop = there()
        assert (
            (code, hop["verdict"]) == (1, "broken") and "SSH-2.0-another" in hop["seen"] and "another" in hop["means"]
        )
        twin.kill()
        twin.wait()
        code, hop = there("root@192.0.2.99")
        assert (code, hop["verdict"]) == (0, "not tested") and "could not be used" in hop["seen"]
        assert "for this host only" in lab("trace", "gauge", "own", "--at", "root@192.0.2.20", code=2).err
        assert "is not a machine" in lab("trace", "gauge", "ssh", "--at=-oProxyCommand=x", code=2).err
    finally:
        server.kill()
        server.wait()


def _at_a_terminal() -> None:
    """A shell that puts a program into the background has it ignore Ctrl-C; one at a terminal does not."""
    fcntl.ioctl(0, termios.TIOCSCTTY, 0)
    signal.signal(signal.SIGINT, signal.SIG_DFL)


def test_interrupted_it_ends_at_once_and_leaves_the_terminal_clean(hosted: HostedLab) -> None:
    lab = hosted
    lab.write(LAB)
    lab("apply", "--no-wait")
    os.kill(lab.pid("gauge"), signal.SIGSTOP)
    outer, inner = pty.openpty()
    before = termios.tcgetattr(inner)
    child = subprocess.Popen(
        lab.world.inside("host", PROGRAM, "trace", "gauge"), cwd=lab.folder, env=lab.env,
        stdin=inner, stdout=inner, stderr=inner, start_new_session=True, preexec_fn=_at_a_terminal,
    )  # fmt: skip
    # It asks the guest's monitor, which holds still: so it is in the middle of its questions.
    deadline = time.monotonic() + 120
    while len(list(Path(f"/proc/{child.pid}/task").iterdir())) < 5:
        assert time.monotonic() < deadline and child.poll() is None
    os.write(outer, b"\x03")
    code = child.wait(60)
    said = os.read(outer, 65536).decode()
    assert code == 130, said
    assert "interrupted" in said and "Traceback" not in said and termios.tcgetattr(inner) == before
    os.kill(lab.pid("gauge"), signal.SIGCONT)
    os.close(outer)
    os.close(inner)


def test_a_wireless_uplink_is_named(hosted: HostedLab) -> None:
    """An adapter of the host that looks wireless to it, as a bridge network's uplink."""
    lab = hosted
    lab.write(ON_LAN)
    wireless = 'mount -t tmpfs none /sys/class/net && mkdir -p /sys/class/net/eth0/phy80211 && exec "$@"'
    said = lab.without(["unshare", "-m", "sh", "-c", wireless, "sh"], "trace", "gauge", "--json", code=1).json
    assert said["broken"] == "lab-file" and "eth0 is wireless" in said["hops"][0]["seen"]
    assert "a wired adapter" in said["hops"][0]["remedy"]


DROPS = "{ type filter hook input priority 0; policy drop; }"


def outward(lab: HostedLab, to: str) -> tuple[str | None, dict[str, Any]]:
    """The hop that is broken on the way from gauge to something, and all hops by name."""
    said = lab("trace", "gauge", "--to", to, "--json", code=None, timeout=120).json
    return said["broken"], {h["name"]: h for h in said["hops"]}


def test_why_a_guest_does_not_reach_something(hosted: HostedLab) -> None:
    """Asked inside it by a login, and compared with what this host sees."""
    lab, world = hosted, hosted.world
    lab.write(LAB)
    lab("apply")
    service = world.serve("other", "0.0.0.0", 7000, "tides")
    try:
        broken, hops = outward(lab, "192.0.2.30:7000")
        assert broken is None and hops["target"]["seen"] == "the guest connects to 192.0.2.30:7000"
        broken, hops = outward(lab, "192.0.2.30:7001")
        assert broken == "target" and "no program listens on that port" in hops["target"]["means"]
        # Another program on this host drops what the guest sends.
        drop = "add table inet fw; add chain inet fw f { type filter hook forward priority 5; }"
        world.run("host", "nft", f"{drop}; add rule inet fw f ip daddr 192.0.2.30 tcp dport 7000 drop")
        broken, hops = outward(lab, "192.0.2.30:7000")
        assert broken == "rules" and "inet fw" in hops["rules"]["seen"]
        assert hops["rules"]["remedy"] == "nft -a list chain inet fw f"
        world.run("host", "nft", "delete table inet fw")
        # A policy rule of this host forbids it, and this host has no route itself.
        world.run("host", "ip", "rule", "add", "from", "10.77.4.0/24", "prohibit", "pref", "5")
        broken, hops = outward(lab, "192.0.2.30:7000")
        assert broken == "forwarding" and "Permission denied" in hops["forwarding"]["seen"]
        world.run("host", "ip", "rule", "del", "pref", "5")
        world.run("host", "ip", "route", "add", "blackhole", "192.0.2.30/32")
        assert "has no route to 192.0.2.30" in outward(lab, "192.0.2.30:7000")[1]["host"]["seen"]
        world.run("host", "ip", "route", "del", "blackhole", "192.0.2.30/32")
        # The machine itself drops the guests' side of it: this host, whose address they come from, too.
        world.run("other", "nft", f"add table ip fw; add chain ip fw i {DROPS}")
        broken, hops = outward(lab, "192.0.2.30:7000")
        assert broken == "target" and "it is on: it answers ARP" in hops["target"]["seen"]
        world.run("other", "nft", "delete table ip fw")
        # Nobody there, a router that is not there, and a cable that is unplugged.
        broken, hops = outward(lab, "192.0.2.77:80")
        assert broken == "target" and "no machine answers ARP for 192.0.2.77 on eth0" in hops["target"]["seen"]
        assert hops["host"]["seen"] == "no answer to this host, either"
        world.run("host", "ip", "route", "replace", "default", "via", "192.0.2.99")
        broken, hops = outward(lab, "203.0.113.5:80")
        assert broken == "host" and "the router 192.0.2.99 does not answer ARP on eth0" in hops["host"]["seen"]
        world.run("switch", "ip", "link", "set", "host", "down")
        broken, hops = outward(lab, "192.0.2.30:7000")
        assert broken == "host" and "eth0 has no carrier" in hops["host"]["seen"]
        world.run("switch", "ip", "link", "set", "host", "up")
        world.run("host", "ip", "route", "replace", "default", "via", "192.0.2.1")
        # A guest of the lab by its short name: the lab's name server has the long one.
        assert "gauge.real.internal is 10.77.4.20" in outward(lab, "gauge:22")[1]["names"]["seen"]
        # A port of this host, and a private address where only the internet is open.
        here = world.serve("host", "0.0.0.0", 7002, "host")
        broken, hops = outward(lab, "10.77.4.1:7002")
        assert broken == "rules" and "port 7002 of this host is closed" in hops["rules"]["seen"]
        for step in hops["rules"]["remedy"].split(", then "):
            lab(*shlex.split(step)[1:])
        assert outward(lab, "10.77.4.1:7002")[0] is None
        here.kill()
        here.wait()
        broken, hops = outward(lab, "pier.example:80")
        assert broken == "names" and "has no address for pier.example" in hops["names"]["seen"]
        on_console(lab, "gauge", "ip route del default")
        broken, hops = outward(lab, "192.0.2.30:7000")
        assert broken == "route" and hops["route"]["means"] == "its default route is missing"
        assert "ip route replace default via 10.77.4.1" in hops["route"]["remedy"]
    finally:
        service.kill()
        service.wait()
    lab("pause", "gauge")
    assert outward(lab, "192.0.2.30:7000")[0] == "guest"
    for wrong in ("127.0.0.1:22", "-oX:22", "a b", "192.0.2.30:99999", "$(reboot)"):
        assert "--to: " in lab("trace", "gauge", "--to", wrong, code=2).err
