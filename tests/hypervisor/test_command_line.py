"""QEMU's command line, and what its monitor says of open forwards."""

import itertools
import json
from ipaddress import IPv4Address

from dacha.core.apply.first_boot import Seeds
from dacha.core.apply.machine import Machine, machine
from dacha.core.lab.table.read import read_lab
from dacha.core.plan.doors import Forward
from dacha.core.plan.plan import make_plan
from dacha.hypervisor.command_line import Files, command_line
from dacha.hypervisor.images.layers import Layer
from dacha.hypervisor.live.user_network import parse_forwards

TEXT = """\
[lab]
name = "lab"
[network.pier]
kind = "nat"
subnet = "10.77.4.0/24"
subnet6 = "fd77:4::/64"
[network.vault]
kind = "host-only"
subnet = "10.77.9.0/24"
[guest.gauge]
cpus = 2
memory = "1 GiB"
clock = "local"
boot = { kernel = "k", initrd = "i", command-line = "quiet" }
disk = [{ size = "8 GiB" }, { size = "1 GiB", bus = "sata" }]
adapter = [{ network = "pier", address = "10.77.4.20" }, { network = "vault", address = "10.77.9.20", model = "e1000" }]
door.ssh = { from = "host", port = 2220 }
"""


def built(text: str = TEXT, accelerator: str = "tcg") -> tuple[Machine, list[str]]:
    lab = read_lab(text).lab
    assert lab is not None
    plan = make_plan(lab)
    guest = lab.guests["gauge"]
    m = machine(lab, plan, guest, accelerator=accelerator, files={"k": "/boot/k", "i": "/boot/i"}, seeds=Seeds("s"))
    files = Files(
        disks=tuple((Layer("qcow2", f"/disks/{n},odd"),) for n in range(len(guest.disks))),
        seed="/seed.iso",
        console="/log,console",
        firmware=("/code", "/variables") if guest.firmware == "uefi" else None,
    )
    return m, command_line("qemu", m, files, sorted(plan.forwards_of("gauge", [d.name for d in guest.doors])))


def option(argv: list[str], name: str, part: str = "") -> str:
    return next(b for a, b in itertools.pairwise(argv) if a == name and part in b)


def test_a_machine_becomes_arguments() -> None:
    _, argv = built()
    assert option(argv, "-m") == "1024M" and option(argv, "-smp") == "2" and option(argv, "-rtc") == "base=localtime"
    assert option(argv, "-kernel") == "/boot/k" and option(argv, "-append") == "quiet"
    assert option(argv, "-accel") == "tcg,thread=multi" and option(argv, "-cpu") == "max"
    assert "elevateprivileges=deny" in option(argv, "-sandbox")
    assert "-nodefaults" in argv and "-no-user-config" in argv
    assert option(argv, "-vnc") == "unix:screen,password=on"
    assert option(built(accelerator="kvm")[1], "-cpu") == "host"


def test_the_planned_subnet_and_address_reach_the_hypervisor() -> None:
    m, argv = built()
    pier, vault = option(argv, "-netdev", "id=net0"), option(argv, "-netdev", "id=net1")
    for part in ("net=10.77.4.0/24", "host=10.77.4.1", "dns=10.77.4.2", "dhcpstart=10.77.4.20", "restrict=off"):
        assert part in pier.split(",")
    assert "ipv6-prefix=fd77:4::" in pier and "ipv6=off" not in pier
    assert "hostfwd=tcp:127.0.0.1:2220-10.77.4.20:22" in pier
    # A host-only network has no way out, and the door does not forward through it.
    assert "restrict=on" in vault.split(",") and "hostfwd" not in vault and "ipv6=off" in vault
    assert f"mac={m['adapters'][0]['hardware_address']}" in option(argv, "-device", "virtio-net-pci")
    assert "e1000,netdev=net1" in option(argv, "-device", "e1000")


def test_awkward_paths_and_both_buses_are_written_right() -> None:
    _, argv = built()
    nodes = [json.loads(b) for a, b in itertools.pairwise(argv) if a == "-blockdev"]
    assert [n["file"]["filename"] for n in nodes] == ["/disks/0,odd", "/disks/1,odd", "/seed.iso"]
    assert [n["read-only"] for n in nodes] == [False, False, True]
    assert "logfile=/log,,console" in option(argv, "-chardev", "id=serial")
    assert option(argv, "-device", "drive=disk-0").startswith("virtio-blk-pci")
    assert option(argv, "-device", "drive=disk-1").startswith("ide-hd")
    assert ",bus=ide.1," in option(argv, "-device", "drive=disk-1")


def test_video_can_be_left_out() -> None:
    _, argv = built(TEXT.replace("cpus = 2", "cpus = 2\nvideo = false"))
    assert "-vnc" not in argv and "VGA" not in argv


def test_uefi_tries_no_way_of_starting_from_a_network_that_nobody_there_answers() -> None:
    start = 'firmware = "uefi"\nboot-order = ["network"]\ncpus = 2'
    by_tftp = TEXT.replace("cpus = 2", start)
    kernel = 'backend = "kernel"\nboot = { files = "netboot", uefi = "http.efi", http = true }\nsubnet ='
    by_http = by_tftp.replace("subnet =", kernel)
    on_a_lan = by_tftp.replace('"host-only"\nsubnet = "10.77.9.0/24"', '"bridge"\nadapter = "br0"')
    for text, versions in ((TEXT, [4, 6]), (by_tftp, [4]), (by_http, []), (on_a_lan, [4, 6])):
        m, argv = built(text)
        assert m["pxe"] == versions
        off = {version for version in (4, 6) if f"name=opt/org.tianocore/IPv{version}PXESupport,string=n" in argv}
        assert off == ({4, 6} - set(versions) if "uefi" in text else set())
        # What does PXE in its place is not loaded either, but for an adapter that needs its driver.
        assert (",romfile=" in option(argv, "-device", "virtio-net-pci")) == (text in (TEXT, by_http))
        assert (",romfile=" in option(argv, "-device", "e1000,")) == (text == TEXT)


def test_open_forwards_are_read_from_the_monitors_table() -> None:
    table = """Hub -1 (net0):
  Protocol[State]    FD  Source Address  Port   Dest. Address  Port RecvQ SendQ
  TCP[ESTABLISHED]   31       127.0.0.1  2220     10.77.4.20     22     0     0
  TCP[HOST_FORWARD]  12       127.0.0.1  2220     10.77.4.20     22     0     0
  UDP[HOST_FORWARD]  13               *  5000     10.77.4.20   5001     0     0
"""
    guest = IPv4Address("10.77.4.20")
    assert parse_forwards(table) == {
        Forward("tcp", IPv4Address("127.0.0.1"), 2220, guest, 22),
        Forward("udp", IPv4Address("0.0.0.0"), 5000, guest, 5001),
    }
    assert parse_forwards("") == frozenset()
