"""What the fault rig does: it carries out what a fault's text says, on a host with real guests, and traces a door."""

from __future__ import annotations

import json
import os
import shlex
import signal
import time
from pathlib import Path
from typing import Any

from dacha.core.lab.names import link_name
from dacha.hypervisor.monitor.qmp import Qmp
from tests.networks.test_kernel_nat import on_console
from tests.networks.world import HostedLab, begin_router, end_router, hold
from tests.processes import kill

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
BRIDGE, TAP = link_name("real", "network", "pier"), link_name("real", "guest", "gauge", "0")


def _ended(program: str) -> str:
    """The guest's words that end a program, and go on when it is gone: another may have its port then."""
    return f"kill $(pidof {program}); for n in $(seq 100); do pidof {program} >/dev/null || break; sleep 0.1; done"


WORDS = {
    "$SSHD": "dropbear -r /etc/dropbear/host_key -s -E 2>/dev/null",
    "$STOP": _ended("dropbear"),
    "$NO-HTTPD": _ended("httpd"),
    "$NO-NC": _ended("nc"),
    "$BRIDGE": BRIDGE,
    "$TAP": TAP,
}


class Rig:
    """Carries out what a fault's text says."""

    def __init__(self, lab: HostedLab) -> None:
        self.lab, self.held = lab, None
        self.router, self.began = begin_router(lab.world), time.monotonic()

    def carry_out(self, text: str, *, whatever: bool = False) -> None:
        """Do it, line by line; with `whatever`, what is done already may fail."""
        for line in text.splitlines():
            self._carry_out(line, whatever)

    def _carry_out(self, text: str, whatever: bool) -> None:
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
                self.lab(*shlex.split(rest), code=None, timeout=300)
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
                self.lab.world.run("host", "sh", "-c", f"{text}; true" if whatever else text)

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

    def unplugged(self) -> None:
        self.lab.world.run("switch", "ip", "link", "set", "host", "down")

    def plugged(self) -> None:
        self.lab.world.run("switch", "ip", "link", "set", "host", "up")

    def caretaker(self) -> int:
        return int(self.lab("caretaker", "status", "--json").json["pid"])

    def hold_caretaker(self) -> None:
        """It would restore within a second what a fault changes: so it is held, and goes on when that is healed."""
        hold(self.lab)

    def release_caretaker(self) -> None:
        os.kill(self.caretaker(), signal.SIGCONT)

    def kill_caretaker(self) -> None:
        kill(self.caretaker())

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
        deadline = time.monotonic() + 120
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


def traced(
    lab: HostedLab, door: tuple[str, ...], hop: str | None = None, says: str = "", *, login: bool = True
) -> tuple[dict[str, Any], float]:
    """The trace, and how long the slowest took; one that is hoped for may come when the wire has shown it, or a slow
    guest has done what it was told."""
    deadline, slowest = time.monotonic() + 20, 0.0
    more = () if hop == "login" or (hop is None and login) else ("--no-login",)
    while True:
        began = time.monotonic()
        said = lab("trace", *door, *more, "--json", code=None).json
        slowest = max(slowest, time.monotonic() - began)
        words = [" ".join(map(str, h.values())) for h in said["hops"] if h["name"] == hop]
        if (said["broken"] == hop and says in "".join(words)) or time.monotonic() > deadline:
            return said, slowest
        time.sleep(0.3)
