"""Commands that change a lab, and the parts of its caretaker, killed at random moments: the next `apply` completes what
was begun, no disk is lost, no guest runs twice, nothing is left over, and a door that was not touched stays open."""

from __future__ import annotations

import contextlib
import json
import os
import random
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest

from tests.caretaker.test_worker import source, workers
from tests.conftest import PROGRAM
from tests.guests.test_faults import processes_of
from tests.networks.world import HostedLab, World, until
from tests.walk.model import disks_found

# So many are killed; DACHA_KILLS for more.
KILLS = int(os.environ.get("DACHA_KILLS", "8"))
LAB = """\
[lab]
name = "faults"
[network.pier]
kind = "nat"
backend = "@BACKEND@"
subnet = "10.77.4.0/24"
[guest.gauge]
@BOOT@
adapter = [{ network = "pier", address = "10.77.4.20" }]
door.ssh = { from = "lan", port = 2220 }
"""
# Guests that need no system for what is tried with them.
STILL = """\
[guest.{name}]
memory = "32 MiB"
video = false
first-boot = false
stop-after = "0 s"
disk = [{{ size = "1 MiB" }}]
adapter = [{{ network = "pier", address = "10.77.4.{n}" }}]
door.data = {{ from = "lan", port = 80{n}, to = 80 }}
"""
# How long the door of a guest that nothing is done with may be closed by a death of ours (seconds), on a machine that
# does nothing else; a busy one is given more.
CLOSED_S = 2.0 if KILLS >= 100 else 10.0
# In another machine: connects again and again, and at the end says for how long at most no connection was made.
_WATCH = """
import json, select, socket, sys, time
worst, good, tries = 0.0, time.monotonic(), 0
while not select.select([sys.stdin], [], [], 0.1)[0]:
    tries += 1
    try:
        socket.create_connection((sys.argv[1], 2220), 1.0).close()
        good = time.monotonic()
    except OSError:
        worst = max(worst, time.monotonic() - good)
print(json.dumps([worst, tries]))
"""


class Killer:
    """What is done with the lab, and killed, at random; `done` is what, for the report."""

    def __init__(self, lab: HostedLab, seed: int) -> None:
        self.lab, self.drawn, self.done = lab, random.Random(seed), dict[str, int]()

    def one(self) -> str:
        """Do one thing, and kill it on the way: what it was."""
        text = self.lab.file.read_text()
        there = "[guest.avocet]" in text
        deeds = {
            "apply": self._edited,
            "restart": lambda: ["restart", "heron", "--force", "--wait", "0s", "--no-wait"],
            "stop": lambda: ["stop", "heron", "--force", "--wait", "0s"],
            "start": lambda: ["start", "heron", "--no-wait"],
            "remove" if there else "return": self._avocet(there),
            "caretaker": None,
        }
        what = self.drawn.choice(list(deeds))
        self.done[what] = self.done.get(what, 0) + 1
        deed = deeds[what]
        if deed is None:
            # A lab with a network in user mode alone may have none.
            parent = self.lab("caretaker", "status", "--json", code=None).json["pid"]
            found = [parent, source(parent), *workers(parent), *workers(parent, "dacha-relay")] if parent else []
            with contextlib.suppress(ProcessLookupError, IndexError):
                os.kill(self.drawn.choice([pid for pid in found if pid]), signal.SIGKILL)
            return what
        words = deed()
        command = subprocess.Popen(
            self.lab.world.inside("host", PROGRAM, *words), cwd=self.lab.folder, env=self.lab.env,
            stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, start_new_session=True,
        )  # fmt: skip
        with contextlib.suppress(subprocess.TimeoutExpired):
            command.wait(self.drawn.uniform(0.1, 1.2))
        # Alone, or with what it had started.
        with contextlib.suppress(ProcessLookupError):
            (os.kill if self.drawn.random() < 0.5 else os.killpg)(command.pid, signal.SIGKILL)
        command.wait()
        return " ".join(words)

    def _edited(self) -> list[str]:
        lab, text = self.lab, self.lab.file.read_text()
        edits = [
            f"guest edit heron --memory {self.drawn.choice((32, 40, 48))}MiB",
            f"guest edit heron --cpus {self.drawn.choice((1, 2))}",
            "door remove heron more" if "door.more" in text else "door add heron more --port 8099 --to 81 --from lan",
            f"door edit heron data --port {self.drawn.choice((8021, 8031))}",
        ]
        lab(*self.drawn.choice(edits).split())
        return ["apply", "--no-wait"]

    def _avocet(self, there: bool) -> object:
        def words() -> list[str]:
            if there:
                # It presses no power button, and what is not in the file any more has the usual time for that.
                self.lab("stop", "avocet", "--force", "--wait", "0s")
                return ["guest", "remove", "avocet"]
            self.lab("guest", "add", "avocet", "--attach", "0", "--memory", "32MiB", "--no-first-boot", code=None)
            return ["apply", "--no-wait"]

        return words


@pytest.mark.parametrize("backend", ["user", "kernel"])
def test_whatever_is_killed_the_next_apply_completes(hosted: HostedLab, world: World, backend: str) -> None:
    lab = hosted
    lab.write(LAB.replace("@BACKEND@", backend) + STILL.format(name="heron", n=21) + STILL.format(name="avocet", n=22))
    lab("apply", "--no-wait")
    until(lambda: lab("connect", "gauge", "--", "hostname", code=None).out == "gauge\n")
    lab("stop", "heron", "avocet", "--force", "--wait", "0s")
    for name in ("heron", "avocet"):
        mark = lab.folder / "mark"
        mark.write_bytes(f"MARK:{name}".encode().ljust(512, b"."))
        disk = lab.guest_folder(name) / "disk-0.qcow2"
        subprocess.run(["qemu-io", "-c", f"write -s {mark} 0 512", disk], check=True, capture_output=True)
    lab("start", "--all", "--no-wait")
    marks, gauge = disks_found(lab), lab.pid("gauge")
    assert len(marks) == 2
    watch = subprocess.Popen(
        world.inside("other", sys.executable, "-c", _WATCH, "192.0.2.10"), stdin=subprocess.PIPE,
        stdout=subprocess.PIPE, text=True,
    )  # fmt: skip
    killer, slowest = Killer(lab, int(os.environ.get("DACHA_SEED", "5"))), 0.0
    for n in range(KILLS):
        words = killer.one()
        began = time.monotonic()
        lab("apply", "--no-wait", timeout=60)
        slowest = max(slowest, time.monotonic() - began)
        # What a running guest takes up at its next start is left.
        assert not [c for c in lab("diff", "--json").json["changes"] if c["when"] == "now"], (n, words)
        assert disks_found(lab) == marks, (n, words)
        status = lab("status", "--json", code=None).json["guests"]
        on = [g["pid"] for g in status if g["state"] == "on"]
        # A killed one is there until its parent has seen its end.
        until(lambda on=on: len(processes_of(lab)) == len(on))
        assert sorted(processes_of(lab)) == sorted(on), (n, words)
        assert lab.pid("gauge") == gauge, (n, words)
        left = [p for p in lab.folder.rglob("*.part") if not p.is_symlink()]
        assert not left, (n, words)
    said = json.loads(watch.communicate("end\n", timeout=60)[0])
    print(f"{backend}: {KILLS} killed ({killer.done}); completed within {slowest:.1f} s; the door of a guest that was "
          f"left alone was closed for {said[0]:.1f} s at most ({said[1]} connections)")  # fmt: skip
    assert said[0] < CLOSED_S and said[1] > KILLS
    assert Path(lab.env["DACHA_RUN"]).is_dir() and lab("connect", "gauge", "--", "hostname").out == "gauge\n"
