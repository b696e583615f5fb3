"""A lab that changes at random for 30 minutes, with processes of Dacha killed at random.

    python bench/soak.py [MINUTES] [SEED]

What `status` says, what packets show and what was asked for never differ, and nothing grows. A host, a machine on its
LAN and a router are network namespaces; two guests boot. Doors, people and guests come and go, guests are stopped and
started; one command in three and now and then a part of the caretaker is killed (SIGKILL) at a random moment. After
each kill the next apply must repair the lab within 60 s. A door that is always there is connected to all the time, and
may be closed for 2 s at most, unless its guest was stopped. At the end memory, files, links, rules and processes are
as they were at the beginning.
"""

from __future__ import annotations

import contextlib
import json
import os
import random
import shutil
import signal
import subprocess
import sys
import tempfile
import threading
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parents[1]))

from tests.conftest import PROGRAM, boot_lines, stop_everything
from tests.networks.world import HostedLab, World

from dacha.demo.guest_image import guest_image
from dacha.formats.openssh import key_pair

LAB = """\
[lab]
name = "soak"
[network.pier]
kind = "nat"
backend = "kernel"
subnet = "10.77.4.0/24"
dynamic = "10.77.4.100-10.77.4.150"
[guest.gauge]
@BOOT@
disk = [{ size = "8 MiB" }]
adapter = [{ network = "pier", address = "10.77.4.20" }]
door.steady = { service = "ssh", from = "lan", port = 2200 }
[guest.heron]
@BOOT@
adapter = [{ network = "pier", address = "dynamic" }]
"""
# How long an apply may take to repair what a kill left; how long a door may be closed (seconds).
REPAIR_S, SHUT_S, BOOT_S = 60.0, 2.0, 240.0


class Soak:
    """The lab, the model of it, and what was counted."""

    def __init__(self, lab: HostedLab, seed: int) -> None:
        self.lab, self.drawn = lab, random.Random(seed)
        self.doors: dict[tuple[str, str], tuple[str, int]] = {("gauge", "steady"): ("lan", 2200)}
        self.on = {"gauge": True, "heron": True}
        self.people: set[str] = set()
        self.spare = False
        self.count = {"steps": 0, "kills of a command": 0, "kills of the caretaker's parts": 0, "doors compared": 0}
        self.wrong: list[str] = []
        # While the steady door may be closed: its guest is off or boots.
        self.excused = threading.Event()
        self.longest = 0.0
        self.ended = threading.Event()

    def act(self) -> tuple[str, ...]:
        """One random change of the lab file or of a guest's power; the model follows."""
        kind = self.drawn.choice(("door", "door", "door", "close", "close", "power", "person", "spare", "nothing"))
        guest = self.drawn.choice(("gauge", "heron"))
        if kind == "door" and len(self.doors) < 8:
            name, origin, port = (
                f"d{self.drawn.randrange(100)}",
                self.drawn.choice(("host", "lan")),
                2300 + self.drawn.randrange(100),
            )
            if (guest, name) in self.doors or port in {p for _, p in self.doors.values()}:
                return ()
            self.doors[guest, name] = (origin, port)
            return ("door", "add", guest, name, "--service", "ssh", "--from", origin, "--port", str(port))
        if kind == "close" and len(self.doors) > 1:
            key = self.drawn.choice(sorted(k for k in self.doors if k[1] != "steady"))
            del self.doors[key]
            return ("door", "remove", *key)
        if kind == "power" and self.drawn.random() < 0.3:
            self.on[guest] = not self.on[guest]
            if guest == "gauge":
                self.excused.set()
            return ("start", guest, "--no-wait") if self.on[guest] else ("stop", guest, "--force", "--wait", "0s")
        if kind == "person":
            name = self.drawn.choice(("mara", "kim"))
            if name in self.people:
                self.people.discard(name)
                return ("person", "remove", name)
            self.people.add(name)
            return ("person", "add", name, "--key", f"{name}.pub", "--enter", "gauge", "--from", "lan")
        if kind == "spare":
            self.spare = not self.spare
            if self.spare:
                return ("guest", "add", "tern", "--disk", "1MiB", "--memory", "64MiB")
            self.remove_spare()
        return ()

    def remove_spare(self) -> None:
        """Take the guest without a system out of the lab: it hears no power button."""
        self.lab("stop", "tern", "--force", "--wait", "0s", code=None)
        self.lab("guest", "remove", "tern", "--with-disks")

    def apply(self) -> None:
        """Apply; one in three is killed at a random moment, and then the next must repair what it left."""
        if self.drawn.random() < 0.34:
            self.count["kills of a command"] += 1
            command = self.lab.world.inside("host", PROGRAM, "apply", "--no-wait")
            child = subprocess.Popen(
                command, cwd=self.lab.folder, env=self.lab.env, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
            )
            time.sleep(self.drawn.uniform(0.0, 1.2))
            child.kill()
            child.wait()
        began = time.monotonic()
        done = self.lab("apply", "--no-wait", code=None, timeout=600)
        if done.code or time.monotonic() - began > REPAIR_S:
            self.wrong.append(f"apply: exit {done.code} after {time.monotonic() - began:.0f} s: {done.err[-500:]}")
        if "everything applied" not in (said := self.lab("diff", code=None)).out:
            self.wrong.append(f"diff after apply: {said.out[-500:]}")

    def kill_a_part(self) -> None:
        """Kill a random process of the caretaker; it must be back, or the next apply starts it."""
        pid = self.lab("caretaker", "status", "--json", code=None).json["pid"]
        if pid is None:
            return
        self.count["kills of the caretaker's parts"] += 1
        parts = subprocess.run(["pgrep", "-P", str(pid)], capture_output=True, text=True, check=False).stdout.split()
        for parent in list(parts):
            parts += subprocess.run(["pgrep", "-P", parent], capture_output=True, text=True, check=False).stdout.split()
        with contextlib.suppress(ProcessLookupError):
            os.kill(int(self.drawn.choice([str(pid), *parts])), signal.SIGKILL)

    def compare(self) -> None:
        """What was asked for, what status says, and what packets show."""
        until = time.monotonic() + BOOT_S
        while True:
            rows = {g["name"]: g for g in self.lab("status", "--json", code=None, timeout=600).json["guests"]}
            said = {
                (n, d["name"]): d["answers"]
                for n, g in rows.items()
                for d in g["doors"]
                if d["name"].startswith(("d", "steady"))
            }
            booted = all(said.get(k) for k in self.doors if self.on[k[0]])
            if booted or time.monotonic() > until:
                break
        if set(said) != set(self.doors):
            self.wrong.append(f"doors by status {sorted(said)}, asked for {sorted(self.doors)}")
        for (guest, name), (origin, port) in self.doors.items():
            heard = self.lab.world.reads("lan", "192.0.2.10", port, 5.0).startswith("SSH-")
            here = self.lab.world.reads(
                "host", "127.0.0.1" if origin == "host" else "192.0.2.10", port, 5.0
            ).startswith("SSH-")
            asked = self.on[guest]
            self.count["doors compared"] += 1
            shown = said.get((guest, name))
            if here != asked or heard != (asked and origin == "lan") or bool(shown) != asked:
                state = "on" if asked else "off"
                self.wrong.append(
                    f"door {guest} {name} from {origin}, guest {state}: status {shown}, packets from the LAN {heard}, "
                    f"from this host {here}"
                )
        if self.on["gauge"]:
            self.excused.clear()

    def watch(self) -> None:
        """Connect to the steady door all the time, and measure how long it is closed."""
        last = time.monotonic()
        while not self.ended.is_set():
            excused = self.excused.is_set()
            fine = self.lab.world.reads("lan", "192.0.2.10", 2200, 1.0).startswith("SSH-")
            now = time.monotonic()
            if fine or excused or self.excused.is_set():
                last = now
            elif now - last > self.longest:
                self.longest = now - last
            time.sleep(0.1)

    def measured(self) -> dict[str, int]:
        """What must not grow, in the lab's first state: only the steady door, both guests on."""
        folder = self.lab.folder / "state"
        own = subprocess.run(
            ["ip", "netns", "pids", self.lab.world.name("host")], capture_output=True, text=True, check=True
        )
        pid = self.lab("caretaker", "status", "--json").json["pid"]
        run = self.lab.world.run
        return {
            "processes": len(own.stdout.split()),
            "files": len(files_of(folder)),
            "links": run("host", "ip", "-o", "link").count("\n"),
            "rules": run("host", "nft", "list", "ruleset").count("\n"),
            "descriptors of the caretaker": len(list(Path(f"/proc/{pid}/fd").iterdir())),
            "memory of the caretaker, MiB": int(_read(Path(f"/proc/{pid}/status")).partition("VmRSS:")[2].split()[0])
            >> 10,
        }

    def first_state(self) -> None:
        for key in [k for k in self.doors if k[1] != "steady"]:
            self.lab("door", "remove", *key)
            del self.doors[key]
        for name in sorted(self.people):
            self.lab("person", "remove", name)
        self.people.clear()
        if self.spare:
            self.remove_spare()
            self.spare = False
        for guest, on in self.on.items():
            if not on:
                self.lab("start", guest, "--no-wait")
                self.on[guest] = True
        # A guest that was removed leaves a note until the next apply.
        self.lab("apply", "--no-wait", code=None, timeout=600)
        self.lab("apply", "--no-wait", code=None, timeout=600)
        self.compare()


def files_of(folder: Path) -> set[str]:
    """The files of the state folder, without earlier versions of the lab file."""
    return {str(p.relative_to(folder)) for p in folder.rglob("*") if p.is_file() and p.parent.name != "versions"}


def _read(path: Path) -> str:
    try:
        return path.read_text(errors="replace")
    except OSError:
        return ""


def leases(lab: HostedLab) -> list[str]:
    """Addresses that were given to two guests at once."""
    found: dict[str, str] = {}
    twice = []
    for lease in lab("caretaker", "status", "--json", code=None).json["leases"]:
        if (
            lease["state"] == "bound"
            and found.setdefault(lease["address"], lease["hardware_address"]) != lease["hardware_address"]
        ):
            twice.append(str(lease["address"]))
    return twice


def main() -> int:
    minutes = float(sys.argv[1]) if len(sys.argv) > 1 else 30.0
    seed = int(sys.argv[2]) if len(sys.argv) > 2 else 1
    world = World()
    folder, run = Path(tempfile.mkdtemp(prefix="dacha-soak-")), Path(tempfile.mkdtemp(prefix="dacha-test-"))
    (folder / "home").mkdir()
    lab = HostedLab(folder, run, world)
    try:
        for name in ("id", "mara", "kim"):
            private, public = key_pair(name.encode().ljust(32, b"k"), name)
            (folder / f"{name}.pub").write_text(public)
            (folder / name).write_text(private)
            (folder / name).chmod(0o600)
        boot_lines(lab, guest_image())
        lab.write(LAB)
        lab("apply", timeout=600)
        soak = Soak(lab, seed)
        soak.compare()
        before, there = soak.measured(), files_of(folder / "state")
        watching = threading.Thread(target=soak.watch)
        watching.start()
        try:
            until = time.monotonic() + 60 * minutes
            while time.monotonic() < until and len(soak.wrong) < 5:
                soak.count["steps"] += 1
                if words := soak.act():
                    lab(*words, code=None if words[0] in ("start", "stop") else 0, timeout=600)
                if soak.drawn.random() < 0.2:
                    soak.kill_a_part()
                soak.apply()
                soak.compare()
                soak.wrong += [f"the lease of {address} was given twice" for address in leases(lab)]
            soak.first_state()
        finally:
            soak.ended.set()
            watching.join()
        after = soak.measured()
        print("new files:", *sorted(files_of(folder / "state") - there))
    finally:
        stop_everything(lab)
        world.close()
        shutil.rmtree(folder, ignore_errors=True)
        shutil.rmtree(run, ignore_errors=True)
    return report(soak, before, after)


def report(soak: Soak, before: dict[str, int], after: dict[str, int]) -> int:
    for what, number in soak.count.items():
        print(f"{what:<34} {number}")
    print(f"{'longest time the door was closed':<34} {soak.longest:.1f} s (limit {SHUT_S} s)")
    grown = []
    for what, number in before.items():
        print(f"{what:<34} {number} at the beginning, {after[what]} at the end")
        # Guests that were started one by one have a recorder each; each guest that has ended once has two notes of its
        # end, and the log has become two files.
        slack = {"processes": 1, "files": 6, "memory of the caretaker, MiB": 16}.get(what, 0)
        grown += [what] if after[what] > number + slack else []
    for words in soak.wrong:
        print("WRONG:", words)
    print(json.dumps({"before": before, "after": after, "grown": grown, "wrong": len(soak.wrong)}))
    return 1 if soak.wrong or grown or soak.longest > SHUT_S else 0


if __name__ == "__main__":
    sys.exit(main())
