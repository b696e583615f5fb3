"""Machines that start from the network: real firmware, BIOS and UEFI, on a kernel network and in user mode."""

from __future__ import annotations

import gzip
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from typing import Any

import pytest

from dacha.core.lab.names import link_name
from tests.networks.world import PYTHON, HostedLab, until

LAB = """\
[lab]
name = "saltmarsh"
[network.pier]
kind = "nat"
backend = "kernel"
subnet = "10.77.4.0/24"
boot = { files = "netboot" }
[network.hut]
kind = "nat"
boot = { files = "netboot" }
"""
GUEST = """\
[guest.{name}]
memory = "512 MiB"
video = false
firmware = "{firmware}"
boot-order = ["network"]
adapter = [{{ network = "{network}" }}]
login = {{ user = "ops", keys = ["id.pub"] }}
door.ssh = {{ from = "host", port = {port} }}
"""


@pytest.fixture(scope="module")
def netboot() -> Any:
    """A folder that GRUB starts the demo guest from, by both kinds of firmware."""
    from dacha.demo import guest_image

    folder = Path(tempfile.mkdtemp(prefix="dacha-netboot-"))
    folder.chmod(0o755)
    subprocess.run(["grub-mknetdir", f"--net-directory={folder}", "--locales=", "--fonts="], check=True,
                   capture_output=True)  # fmt: skip
    shutil.copy(next((guest_image.unpacked() / "boot").glob("vmlinuz-*")), folder / "vmlinuz")
    (folder / "vmlinuz").chmod(0o644)
    image = guest_image.guest_image()
    (folder / "initrd").write_bytes(gzip.compress(image.initrd.read_bytes(), 1))
    menu = f"set timeout=0\nmenuentry tide {{\n linux /vmlinuz {image.command_line}\n initrd /initrd\n}}\n"
    (folder / "boot/grub/grub.cfg").write_text("serial\nterminal_output serial\n" + menu)
    # One that fetches all by HTTP, from where it came.
    with tempfile.NamedTemporaryFile("w") as own:
        own.write("serial\nterminal_output serial\nnet_dhcp\nset root=(http,10.77.4.1)\n" + menu)
        own.flush()
        modules = "--modules=efinet http net linux normal serial"
        made = ["grub-mkstandalone", "-O", "x86_64-efi", "--locales=", "--fonts=", "--themes=", modules,
                "-o", folder / "http.efi", f"boot/grub/grub.cfg={own.name}"]  # fmt: skip
        subprocess.run(made, check=True, capture_output=True)
    yield folder
    shutil.rmtree(folder)


@pytest.mark.whole
@pytest.mark.parametrize("http", [True, pytest.param(False, marks=pytest.mark.whole)], ids=["http", "tftp"])
def test_guests_start_from_the_network_by_bios_and_by_uefi(hosted: HostedLab, netboot: Path, http: bool) -> None:
    lab, text = (
        hosted,
        LAB.replace('"netboot" }', '"netboot", uefi = "http.efi", http = true }' if http else '"netboot" }', 1),
    )
    (lab.folder / "netboot").symlink_to(netboot)
    guests = [("hut", "bios", "hut", 2233), ("charts", "uefi", "pier", 2232)]
    if not http:  # how BIOS starts from the kernel's network is seen by test_network_install.py too
        guests.append(("gauge", "bios", "pier", 2231))
    lab.write(text + "".join(GUEST.format(name=n, firmware=f, network=net, port=p) for n, f, net, p in guests))
    assert not [f for f in lab("check", "--json", code=None).json["findings"] if f["code"].startswith("boot")]
    lab("apply", "--no-wait", timeout=240)
    # The machine in user mode is served by its own process; the others by the packet worker.
    for name, *_ in guests:
        if http and name == "hut":  # the loader is there, and has found its menu; what it goes on to is the same files
            lab("start", name, "--no-wait")
            until(lambda: "Booting `tide'" in lab("console", "hut", "--record").out, 300.0)
            lab("stop", name, "--force", "--wait", "0s")
            continue
        lab("start", name, "--wait", "4 min", timeout=400)
        assert lab("connect", name, "--", "hostname", timeout=240).out == f"{name}\n"
    log = (lab.guest_folder("charts").parent.parent / "caretaker.log").read_text()
    by_http = ("http.efi was sent over HTTP (", "vmlinuz was sent over HTTP (")
    sent = by_http if http else ("core.efi was sent (", "core.0 was sent (")
    assert all(words in log for words in sent) and log.count("vmlinuz was sent") == len(guests) - 1
    assert "boot files" in lab("reach", "charts").out


CLIENT = """
import socket, sys
sys.path.insert(0, {source!r})
from dacha.wire.tftp import encode_ack, encode_request
def fetch(path, block=1468, window=16):
    s = socket.socket(socket.AF_INET, socket.SOCK_DGRAM); s.settimeout(30)
    s.sendto(encode_request(path, {{"blksize": block, "windowsize": window, "tsize": 0}}), ("10.77.4.1", 69))
    data, peer = s.recvfrom(70000)
    if data[1] == 5: return "error %d" % data[3]
    s.sendto(encode_ack(0), peer)
    got = done = since = 0
    while True:
        data, _ = s.recvfrom(70000)
        if int.from_bytes(data[2:4], "big") != (done + 1) & 0xFFFF:
            s.sendto(encode_ack(done), peer); continue
        done += 1; since += 1; got += len(data) - 4
        if len(data) - 4 < block: s.sendto(encode_ack(done), peer); return got
        if since == window: s.sendto(encode_ack(done), peer); since = 0
"""

BY_HTTP = """
from http.client import HTTPConnection
def ask(path, method="GET", **fields):
    c = HTTPConnection("10.77.4.1", 80, timeout=20); c.request(method, path, headers=fields); a = c.getresponse()
    return a.status, len(a.read())
print(*ask("/pxelinux.0"), *ask("/inner", Range="bytes=5-14"), ask("/out")[0], ask("/%2e%2e/secret")[0],
      ask("//etc/passwd")[0], ask("/a%00b")[0], ask("/pxelinux.0", "DELETE")[0], ask("/" + "x" * 9000)[0])
"""
MANY_BY_HTTP = """
import threading, os
from http.client import HTTPConnection
found = []
def one():
    try:
        c = HTTPConnection("10.77.4.1", 80, timeout=60); c.request("GET", "/pxelinux.0")
        found.append(len(c.getresponse().read()))
    except Exception as e: found.append(repr(e))
all_of = [threading.Thread(target=one) for _ in range(20)]
[t.start() for t in all_of]
[t.join() for t in all_of]
for n in range(200):
    try:
        with socket.create_connection(("10.77.4.1", 80), 5) as s: s.sendall(os.urandom(n * 50) + b"\\r\\n\\r\\n")
    except OSError: pass
print(found.count(300000))
"""


@pytest.mark.whole
def test_files_are_served_to_the_network_alone_and_none_beside_the_folder(hosted: HostedLab) -> None:
    lab, world = hosted, hosted.world
    folder = lab.folder / "netboot"
    folder.mkdir()
    (lab.folder / "secret").write_text("not to be had\n")
    (folder / "pxelinux.0").write_bytes(bytes(300_000))
    (folder / "out").symlink_to(lab.folder / "secret")
    (folder / "inner").symlink_to("pxelinux.0")
    lab.write(LAB.replace('[network.hut]\nkind = "nat"\nboot = { files = "netboot" }\n', ""))
    lab("apply")
    # A machine on the network's bridge that is no guest.
    bridge = link_name("saltmarsh", "network", "pier")
    world.plug("outside", bridge)
    world.run("outside", "ip", "address", "add", "10.77.4.99/24", "dev", "eth9")
    source = CLIENT.format(source=str(Path(__file__).parent.parent.parent / "src"))

    def told(code: str, machine: str = "outside") -> str:
        return world.run(machine, *PYTHON, "-c", source + code).strip()

    assert told('print(fetch("pxelinux.0"), fetch("/inner"), fetch("pxelinux.0", 512, 1))') == "300000 300000 300000"
    assert told('print(fetch("out"), fetch("../secret"), fetch("/etc/passwd"), fetch("no"), fetch("."))') == " ".join(
        ["error 1"] * 5
    )
    # Twenty at once, and garbage in between; the worker is the same one afterwards.
    before = lab("caretaker", "status", "--json").json
    many = """
import threading, os
found = []
def one():
    try: found.append(fetch("pxelinux.0"))
    except OSError as e: found.append(repr(e))
all_of = [threading.Thread(target=one) for _ in range(20)]
[t.start() for t in all_of]
s = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
for n in range(2000): s.sendto(os.urandom(n % 80), ("10.77.4.1", 69))
[t.join() for t in all_of]
print(found.count(300000))
"""
    # One client may have eight at once: the others are refused, and said so.
    assert int(told(many)) >= 8
    assert lab("caretaker", "status", "--json").json == before
    # By HTTP the same: whole, in part, twenty at once; nothing from beside the folder; garbage harms nobody.
    assert told(BY_HTTP) == "200 300000 206 10 404 404 404 400 405 431"
    assert int(told(MANY_BY_HTTP)) >= 8
    assert lab("caretaker", "status", "--json").json == before
    # From the LAN nothing is had.
    world.run("lan", "ip", "route", "add", "10.77.4.0/24", "via", "192.0.2.10")
    late = "try: fetch('pxelinux.0')\nexcept OSError as e: print(type(e).__name__)"
    assert told(late, "lan") in ("TimeoutError", "ConnectionRefusedError")
    late = "try: socket.create_connection(('10.77.4.1', 80), 3)\nexcept OSError as e: print(type(e).__name__)"
    assert told(late, "lan") in ("TimeoutError", "ConnectionRefusedError")
    # What is wrong with it is said before anything starts from it.
    lab.write(LAB.replace('"netboot"', '"nowhere"'))
    assert "no folder" in lab("check", code=1).out
    lab.write(LAB.replace('"netboot" }', '"netboot", uefi = "no.efi" }'))
    assert "no file no.efi" in lab("check", code=1).out
    lab.write(
        '[lab]\nname = "saltmarsh"\n[network.quay]\nkind = "bridge"\ninterface = "eth0"\nboot = { files = "x" }\n'
    )
    assert "Dacha runs no DHCP server on a bridged LAN" in lab("check", code=2).out


MACHINE = (
    '[lab]\nname = "saltmarsh"\n[network.pier]\nkind = "nat"\nbackend = "kernel"\nsubnet = "10.77.4.0/24"\n'
    'boot = { files = "netboot" }\nmachine.press = { hardware-address = "02:00:00:77:04:60", address = "10.77.4.60" }\n'
)


def applied_with_a_machine(lab: HostedLab) -> str:
    """The lab, made; the name of its network's bridge."""
    lab.write(MACHINE)
    lab("apply")
    assert "machine press      10.77.4.60, 02:00:00:77:04:60" in lab("network", "show", "pier").out
    return link_name("saltmarsh", "network", "pier")


def caretakers_log(lab: HostedLab) -> str:
    return (Path(lab.env["DACHA_STATE"]) / "labs/saltmarsh/caretaker.log").read_text()


def test_a_machine_that_is_no_guest_has_an_address_a_name_and_files_to_start_from(hosted: HostedLab) -> None:
    """By a DHCP client and a TFTP client of its own on the network's bridge."""
    lab, world = hosted, hosted.world
    (lab.folder / "netboot").mkdir()
    (lab.folder / "netboot/pxelinux.0").write_bytes(bytes(300_000))
    bridge = applied_with_a_machine(lab)
    world.plug("outside", bridge, "address", "02:00:00:77:04:60")
    script = lab.folder / "leased"
    script.write_text('#!/bin/sh\n[ "$ip" ] && ip address replace "$ip/$mask" dev "$interface"\nexit 0\n')
    script.chmod(0o755)
    world.run("outside", "busybox", "udhcpc", "-i", "eth9", "-q", "-n", "-f", "-s", str(script))
    source = CLIENT.format(source=str(Path(__file__).parent.parent.parent / "src"))
    assert world.run("outside", *PYTHON, "-c", source + 'print(fetch("pxelinux.0"))').strip() == "300000"
    assert "10.77.4.60 is leased to 02:00:00:77:04:60" in caretakers_log(lab)
    # It is written when the client's last answer has come.
    until(lambda: "pxelinux.0 was sent (10.77.4.60)" in caretakers_log(lab))
    name = "import dns.resolver as r; x = r.Resolver(configure=False); x.nameservers = ['10.77.4.2']; " \
        "print(*x.resolve('press.saltmarsh.internal', 'A'))"  # fmt: skip
    assert world.run("host", sys.executable, "-c", name).strip() == "10.77.4.60"


@pytest.mark.whole
def test_a_machine_that_is_no_guest_starts_from_the_network(hosted: HostedLab, netboot: Path, tmp_path: Path) -> None:
    """Real firmware on the network's bridge, as an adapter of this host's would bring it there."""
    lab, world, console = hosted, hosted.world, tmp_path / "console"
    (lab.folder / "netboot").symlink_to(netboot)
    bridge = applied_with_a_machine(lab)
    world.run("host", "ip", "tuntap", "add", "m0", "mode", "tap")
    world.run("host", "ip", "link", "set", "m0", "master", bridge, "up")
    machine = subprocess.Popen(
        [*world.inside("host"), "qemu-system-x86_64", "-accel", "tcg", "-m", "512", "-display", "none",
         "-serial", f"file:{console}", "-netdev", "tap,id=n,ifname=m0,script=no,downscript=no",
         "-device", "virtio-net-pci,netdev=n,mac=02:00:00:77:04:60,bootindex=1"]
    )  # fmt: skip
    try:
        deadline = time.monotonic() + 600
        while not (console.is_file() and "no volume labelled cidata" in console.read_text(errors="replace")):
            assert time.monotonic() < deadline and machine.poll() is None, console.read_text(errors="replace")
            time.sleep(0.5)
    finally:
        machine.kill()
        machine.wait()
    assert "vmlinuz was sent (10.77.4.60)" in caretakers_log(lab)
