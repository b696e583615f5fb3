"""A hostile guest in user mode, whose connections QEMU makes in this host's name: each is really made."""

from __future__ import annotations

import contextlib
import subprocess
from pathlib import Path

from tests.attacks.report import Report
from tests.networks.test_kernel_nat import reads_in
from tests.networks.world import HostedLab
from tests.processes import kill

LAB = """\
[lab]
name = "real"
[network.pier]
kind = "nat"
backend = "kernel"
subnet = "10.77.4.0/24"
[network.plain]
kind = "nat"
subnet = "10.77.5.0/24"
to-host = ["tcp 3128"]
[network.far]
kind = "nat"
subnet = "10.77.6.0/24"
way-out = "internet"
[guest.gauge]
@BOOT@
adapter = [{ network = "pier", address = "10.77.4.20" }]
door.ssh = { from = "lan", port = 2220 }
door.http = { from = "host", port = 8020 }
[guest.charts]
@BOOT@
adapter = [{ network = "plain", address = "10.77.5.20" }]
door.ssh = { from = "host", port = 2222 }
[guest.squall]
@BOOT@
adapter = [{ network = "far", address = "10.77.6.20" }]
door.ssh = { from = "host", port = 2223 }
"""
# What listens on the host: where, and whether a guest may have it.
LISTENING = (("127.0.0.1", 9101), ("0.0.0.0", 9102), ("192.0.2.10", 9103), ("127.0.0.1", 3128), ("::1", 9104))


def gate_of(lab: HostedLab, guest: str) -> int:
    """The process that a guest asks before it connects."""
    lock = (lab.guest_folder(guest) / "gate.lock").stat().st_ino
    for entry in Path("/proc").glob("[0-9]*"):
        with contextlib.suppress(OSError):
            mine = b"hypervisor/gate.py" in (entry / "cmdline").read_bytes()
            if mine and any(f.stat().st_ino == lock for f in (entry / "fd").iterdir()):
                return int(entry.name)
    raise AssertionError("no gate")


def test_a_guest_in_user_mode_uses_nothing_of_this_host_but_what_is_meant_for_it(hosted: HostedLab) -> None:
    lab, world, report = hosted, hosted.world, Report()
    lab.write(LAB)
    services = [world.serve("host", address, port, "secret") for address, port in LISTENING]
    services += [world.serve("lan", "0.0.0.0", 9200, "of the LAN"), world.serve("outside", "0.0.0.0", 9300, "far away")]
    world.run("router", "sysctl", "-qw", "net.ipv4.ip_forward=1")
    world.run("outside", "ip", "route", "add", "default", "via", "198.51.100.1")
    try:
        lab("apply")
        lab("status")

        def seen(guest: str, address: str, port: int, timeout_s: float = 20.0) -> str:
            got = reads_in(lab, guest, address, port, timeout_s)
            return got if "secret" in got or "SSH" in got or "LAN" in got or "far" in got else ""

        for what, address, port in (
            ("loopback, by the gateway", "10.77.5.1", 9101), ("all addresses, by the gateway", "10.77.5.1", 9102),
            ("all addresses, by the LAN address", "192.0.2.10", 9102), ("its LAN address", "192.0.2.10", 9103),
            ("loopback, by the name server's address", "10.77.5.2", 9101), ("0.0.0.0", "0.0.0.0", 9102),
            ("the gateway of another network", "10.77.4.1", 9102), ("another door, for this host", "10.77.5.1", 8020),
        ):  # fmt: skip
            report.shut(f"guest in user mode: a service on {what}", seen("charts", address, port, 3))
        report.shut("guest in user mode: a guest on a kernel network itself", seen("charts", "10.77.4.20", 22, 3))
        report.open("guest in user mode: what to-host opens", seen("charts", "10.77.5.1", 3128))
        report.open("guest in user mode: a door from the LAN, by the gateway", seen("charts", "10.77.5.1", 2220))
        report.open("guest in user mode: the same by this host's LAN address", seen("charts", "192.0.2.10", 2220))
        report.open("guest in user mode: a machine on the LAN", seen("charts", "192.0.2.20", 9200))
        report.open("guest in user mode: the outside", seen("charts", "198.51.100.9", 9300))
        for attempt, port in (("loopback", 9101), ("what another network opens", 3128)):
            report.shut(f"guest with way-out internet: {attempt}", seen("squall", "10.77.6.1", port, 3))
        report.open("guest with way-out internet: the outside", seen("squall", "198.51.100.9", 9300))
        # A door that opens later holds for guests that run already.
        lab("door", "edit", "gauge", "http", "--from", "lan")
        lab("apply", "--no-wait")
        opened = lab("connect", "charts", "--", "sleep 1; wget -qO- http://10.77.5.1:8020").out
        report.open("guest in user mode: a door that was opened while it ran", "<html" in opened.lower())
        gates = subprocess.run(["pgrep", "-f", "hypervisor/gate.py"], capture_output=True, text=True, check=False)
        for pid in gates.stdout.split():
            print(pid, [x.strip() for x in open(f"/proc/{pid}/status") if x.startswith(("Uid", "CapEff", "VmRSS"))])
        assert lab("status", "--json").json["loopback_exposed"] == []
        # The process that is asked is killed: the guest has no way out then, and that is said.
        kill(gate_of(lab, "squall"))
        report.shut("guest whose gate was killed: the outside", seen("squall", "198.51.100.9", 9300, 3))
        said = lab("status", code=None).out + lab("diff").out
        report.open("status says so", "no outgoing connections: its gate process has exited" in said)
        report.open("diff says what ends it", "outgoing connections again" in said and "dacha restart" in said)
        lab("restart", "squall", "--force")
        report.open("its next start mends it", seen("squall", "198.51.100.9", 9300))
    finally:
        for service in services:
            service.kill()
            service.wait()
    report.judge()
