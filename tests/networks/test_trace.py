"""The fault rig: one fault at a time on a host with real guests. `trace` has to name the hop that is broken, and must
never call a way broken that works: each fault is also traced when it is healed.
"""

from __future__ import annotations

import fcntl
import json
import os
import pty
import signal
import subprocess
import termios
import time
import tomllib
from pathlib import Path
from typing import Any

from dacha.core.lab.names import link_name
from dacha.hypervisor.monitor.qmp import Qmp
from tests.conftest import PROGRAM
from tests.networks.agreement import disagreement
from tests.networks.test_kernel_nat import on_console
from tests.networks.world import HostedLab, begin_router, end_router

LAB = """\
[lab]
name = "real"
[network.pier]
kind = "nat"
backend = "kernel"
subnet = "10.77.4.0/24"
dynamic = "10.77.4.100-10.77.4.120"
[network.plain]
kind = "nat"
subnet = "10.77.5.0/24"
[guest.gauge]
@BOOT@
adapter = [{ network = "pier", address = "10.77.4.20" }]
door.ssh = { from = "lan", port = 2220 }
door.http = { from = "lan", port = 8020, allow = ["192.0.2.20"] }
door.out = { service = "ssh", from = "outside", port = 2223 }
door.more = { service = "http", from = "outside", port = 2224, outside-port = 80 }
[guest.charts]
@BOOT@
adapter = [{ network = "plain", address = "10.77.5.20" }]
door.ssh = { from = "lan", port = 2222 }
[guest.buoy]
memory = "32 MiB"
disk = [{ size = "1 MiB" }]
adapter = [{ network = "pier", address = "dynamic" }]
door.ssh = { from = "lan", port = 2230 }
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
BRIDGE, TAP = link_name("real", "network", "pier"), link_name("real", "guest", "gauge", "0")
WORDS = {
    "$SSHD": "dropbear -r /etc/dropbear/host_key -s -E 2>/dev/null",
    "$STOP": "kill $(pidof dropbear)",
    "$BRIDGE": BRIDGE,
    "$TAP": TAP,
}


class Rig:
    """Carries out what a fault's text says."""

    def __init__(self, lab: HostedLab) -> None:
        self.lab, self.held = lab, None
        self.router, self.began = begin_router(lab.world), time.monotonic()

    def carry_out(self, text: str) -> None:
        for word, meaning in WORDS.items():
            text = text.replace(word, meaning)
        if "$CARETAKER" in text:
            text = text.replace("$CARETAKER", str(self.caretaker()))
        kind, _, rest = text.partition(" ")
        match kind:
            case "in":
                guest, _, command = rest.partition(": ")
                on_console(self.lab, guest, command)
            case "dacha":
                self.lab(*rest.split(), code=None)
            case "qmp":
                guest, _, said = rest.partition(" ")
                with Qmp(Path(self.lab.env["DACHA_RUN"]) / f"real/{guest}/qmp") as qmp:
                    qmp.execute(json.loads(said)["execute"], json.loads(said).get("arguments"))
            case "signal":
                guest, _, name = rest.partition(" ")
                os.kill(self.lab.pid(guest), signal.Signals[name])
            case "edit":
                old, _, new = rest.partition(" => ")
                self.lab.file.write_text(self.lab.file.read_text().replace(old, new))
            case "do":
                getattr(self, rest)()
            case _:
                self.lab.world.run("host", "sh", "-c", text)

    def port_taken(self) -> None:
        """The forward is gone, and another program has its port."""
        command = {"command-line": "hostfwd_remove net0 tcp:0.0.0.0:2222"}
        self.carry_out("qmp charts " + json.dumps({"execute": "human-monitor-command", "arguments": command}))
        self.held = self.lab.world.serve("host", "0.0.0.0", 2222, "mine")

    def port_freed(self) -> None:
        assert self.held is not None
        self.held.kill()
        self.held.wait()
        self.lab("apply", "--no-wait")

    def twin(self) -> None:
        """Another machine on the bridge has the guest's address."""
        world = self.lab.world
        made = f"link add twin type veth peer name eth9 netns {world.name('other')}"
        for command in (made, f"link set twin master {BRIDGE} up"):
            world.run("host", "ip", *command.split())
        for command in ("link set eth9 up", "address add 10.77.4.20/24 dev eth9"):
            world.run("other", "ip", *command.split())

    def caretaker(self) -> int:
        return int(self.lab("caretaker", "status", "--json").json["pid"])

    def kill_caretaker(self) -> None:
        os.kill(self.caretaker(), signal.SIGKILL)

    def _other_router(self, *options: str) -> None:
        """Another router, which the caretaker has asked for everything; it then looks no more."""
        while time.monotonic() < self.began + 4:
            time.sleep(0.1)  # a clock that was young already cannot tell that it was set back (RFC 6887 section 8.5)
        if self.router.poll() is None:
            end_router(self.router)
        before = time.time()
        self.router, self.began = begin_router(self.lab.world, *options), time.monotonic()
        os.kill(self.caretaker(), signal.SIGCONT)
        self.lab("apply", "--no-wait")
        note = self.lab.folder / "state/labs/real/router.json"
        deadline = time.monotonic() + 20
        while not any(m["made"] > before for m in json.loads(note.read_text())["mappings"]):
            assert time.monotonic() < deadline, note.read_text()
            time.sleep(0.1)
        os.kill(self.caretaker(), signal.SIGSTOP)

    def router_long(self) -> None:
        self._other_router()
        os.kill(self.caretaker(), signal.SIGCONT)

    def router_short(self) -> None:
        self._other_router("--lifetime", "2")

    def router_behind(self) -> None:
        self._other_router("--told", "100.64.3.7")

    def router_again(self) -> None:
        os.kill(self.caretaker(), signal.SIGSTOP)
        end_router(self.router)
        self.router = begin_router(self.lab.world)

    def another_port(self) -> None:
        self.carry_out("edit outside-port = 80 => outside-port = 8080")
        self.lab("apply", "--no-wait")

    def _edit_and_apply(self, text: str) -> None:
        self.carry_out("edit " + text)
        self.lab("apply", "--no-wait")

    def address_applied(self) -> None:
        self._edit_and_apply("10.77.4.20 => 10.77.4.21")

    def address_back(self) -> None:
        self._edit_and_apply("10.77.4.21 => 10.77.4.20")

    def charts_applied(self) -> None:
        self._edit_and_apply("10.77.5.20 => 10.77.5.21")

    def charts_back(self) -> None:
        self._edit_and_apply("10.77.5.21 => 10.77.5.20")

    def charts_moved(self) -> None:
        self._edit_and_apply('network = "plain", address = "10.77.5.20" => network = "pier", address = "10.77.4.30"')

    def charts_moved_back(self) -> None:
        self._edit_and_apply('network = "pier", address = "10.77.4.30" => network = "plain", address = "10.77.5.20"')

    def tap_again(self) -> None:
        self.lab("apply", "--no-wait")
        self.lab("restart", "gauge", "--force")

    def router_gone(self) -> None:
        os.kill(self.caretaker(), signal.SIGSTOP)
        end_router(self.router)

    def router_off(self) -> None:
        os.kill(self.caretaker(), signal.SIGSTOP)
        self.lab.world.run("router", "ip", "link", "set", "eth0", "down")

    def router_on(self) -> None:
        self.lab.world.run("router", "ip", "link", "set", "eth0", "up")
        os.kill(self.caretaker(), signal.SIGCONT)


def traced(lab: HostedLab, door: tuple[str, ...], hop: str | None = None) -> tuple[dict[str, Any], float]:
    """The trace, and how long the slowest took; one that is hoped for may come when the wire has shown it."""
    deadline, slowest = time.monotonic() + (20 if hop is None else 6), 0.0
    # A login is tried where it is hoped for, and with every way that should work.
    more = () if hop in (None, "login") else ("--no-login",)
    while True:
        began = time.monotonic()
        said = lab("trace", *door, *more, "--json", code=None).json
        slowest = max(slowest, time.monotonic() - began)
        if said["broken"] == hop or time.monotonic() > deadline:
            return said, slowest


def test_every_fault_is_named_and_no_working_door_is_called_broken(hosted: HostedLab) -> None:
    lab, rig = hosted, Rig(hosted)
    try:
        _try_all(lab, rig)
    finally:
        rig.router.kill()


def _still_apart(lab: HostedLab, door: tuple[str, ...], said: Any) -> str | None:
    """How the three answers differ, once they have had the time to be of one moment: between two of them the caretaker
    may have asked the router again."""
    deadline = time.monotonic() + 30
    while odd := disagreement(lab, door[0], door[1], said):
        if time.monotonic() > deadline:
            return odd
        said = traced(lab, door)[0]
    return None


def _try_all(lab: HostedLab, rig: Rig) -> None:
    lab.write(LAB)
    lab("apply", "--no-wait")
    for door in (("gauge", "ssh"), ("charts", "ssh"), ("gauge", "out")):
        deadline = time.monotonic() + 60
        while traced(lab, door)[0]["broken"] is not None:
            assert time.monotonic() < deadline, traced(lab, door)
    faults = tomllib.loads(Path(__file__).with_name("faults.toml").read_text())["fault"]
    missed, alarms, apart, slowest = [], [], [], 0.0
    print(f"\n{'fault':<42} {'expected':<12} {'named':<12} healed")
    for fault in faults:
        name, door, (hop, says) = fault["name"], tuple(fault.get("door", ("gauge", "ssh"))), fault["names"]
        rig.carry_out(fault["inject"])
        beside = "beside" in fault
        said, took = traced(lab, door, None if beside else hop)
        slowest = max(slowest, took)
        named = next(iter(said["warnings"]), None) if beside else said["broken"]
        words = " ".join(next((h for h in said["hops"] if h["name"] == named), {}).values())
        if odd := _still_apart(lab, (door[0], door[1]), said):
            apart.append((name, odd))
        if named != hop or says not in words or (beside and said["broken"]):
            missed.append((name, said["broken"], words))
        healed = "-"
        if "heal" in fault:
            rig.carry_out(fault["heal"])
            after, took = traced(lab, tuple(fault.get("healed", door)))
            slowest = max(slowest, took)
            healed = after["broken"] or "works"
            if hop == "applied" and (odd := _still_apart(lab, tuple(fault.get("healed", door))[:2], after)):
                apart.append((f"{name}, healed", odd))
            if after["broken"]:
                alarms.append((name, after["hops"][-1]))
        print(f"{name:<42} {hop:<12} {named or 'none':<12} {healed}")
    share = 100 * (1 - len(missed) / len(faults))
    print(f"{len(faults)} faults, {share:.0f} % named rightly, {len(alarms)} working doors called broken")
    print(f"the slowest trace took {slowest:.1f} s")
    print(f"{len(apart)} times reach, status and trace disagreed")
    assert not alarms, alarms
    assert not apart, "\n".join(map(str, apart))
    assert not missed, missed


def test_a_port_is_asked_from_anywhere_without_a_lab(hosted: HostedLab) -> None:
    lab, world = hosted, hosted.world
    service = world.serve("other", "0.0.0.0", 22, "SSH-2.0-made-up")
    try:
        assert lab("probe", "192.0.2.30:22").out.startswith("192.0.2.30:22 answers as ssh: SSH-2.0-made-up")
        assert "does not answer as http" in lab("probe", "192.0.2.30:22", "--as", "http", code=1).out
        assert "nothing listens there" in lab("probe", "192.0.2.30:23", code=1).out
        # A firewall that says no is told from a port that does, and from one that says nothing.
        world.run(
            "other",
            "nft",
            "add table ip fw; add chain ip fw i { type filter hook input priority 0; }; "
            "add rule ip fw i tcp dport 22 reject with icmp type admin-prohibited; add rule ip fw i tcp dport 24 drop",
        )
        assert "a firewall on the way refuses it" in lab("probe", "192.0.2.30:22", code=1).out
        assert "silent for 1 s" in lab("probe", "192.0.2.30:24", "--wait", "1s", code=1).out
    finally:
        service.kill()
        service.wait()


def test_without_privileges_it_says_what_it_could_not_look_at_and_goes_on(hosted: HostedLab) -> None:
    lab = hosted
    lab.write(LAB.partition("[guest.charts]")[0].replace("door.more", "#"))
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
    assert {n for n, (v, seen) in verdicts.items() if seen == "it takes root to look at"} >= {"adapter", "door-rule"}
    assert verdicts["protocol"][0] == verdicts["key"][0] == verdicts["door"][0] == "fine"


def _at_a_terminal() -> None:
    """A shell that puts a program into the background has it ignore Ctrl-C; one at a terminal does not."""
    fcntl.ioctl(0, termios.TIOCSCTTY, 0)
    signal.signal(signal.SIGINT, signal.SIG_DFL)


def test_interrupted_it_ends_at_once_and_leaves_the_terminal_clean(hosted: HostedLab) -> None:
    lab = hosted
    lab.write(LAB.partition("[guest.charts]")[0])
    lab("apply", "--no-wait")
    os.kill(lab.pid("gauge"), signal.SIGSTOP)
    outer, inner = pty.openpty()
    before = termios.tcgetattr(inner)
    child = subprocess.Popen(
        lab.world.inside("host", PROGRAM, "trace", "gauge"), cwd=lab.folder, env=lab.env,
        stdin=inner, stdout=inner, stderr=inner, start_new_session=True, preexec_fn=_at_a_terminal,
    )  # fmt: skip
    # It asks the guest's monitor, which holds still: so it is in the middle of its questions.
    deadline = time.monotonic() + 20
    while len(list(Path(f"/proc/{child.pid}/task").iterdir())) < 5:
        assert time.monotonic() < deadline and child.poll() is None
    os.write(outer, b"\x03")
    began = time.monotonic()
    code = child.wait(10)
    said = os.read(outer, 65536).decode()
    assert code == 130 and time.monotonic() - began < 5, said
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
