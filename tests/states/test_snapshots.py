"""A restored snapshot is the disk that it was, byte for byte; what is killed leaves nothing half done."""

from __future__ import annotations

import hashlib
import json
import os
import random
import subprocess
import time
from pathlib import Path
from typing import Any

import pytest

from dacha.hypervisor.monitor.qmp import Qmp
from tests.conftest import PROGRAM, Lab
from tests.networks.world import until
from tests.states.world import AGENT, LAB, count, counting, inside, run_folder, state, with_agent

# Steps of the random walk, of which every third is killed; DACHA_STEPS for more.
STEPS = int(os.environ.get("DACHA_STEPS", "24"))
SIZE = 4 << 20
# A guest that writes nothing by itself.
STILL = """\
[lab]
name = "states"
[guest.gauge]
memory = "32 MiB"
video = false
disk = [{ size = "4 MiB" }, { size = "4 MiB", name = "second" }]
stop-after = "0 s"
"""


class Disks:
    """A guest's two disks, written to and read whether it runs or not; and what each snapshot must be."""

    def __init__(self, lab: Lab, guest: str = "gauge") -> None:
        self.lab, self.guest, self.model = lab, guest, dict[str, list[str]]()

    @property
    def files(self) -> list[Path]:
        return [self.lab.guest_folder(self.guest) / f"disk-{n}.qcow2" for n in ("0", "second")]

    @property
    def on(self) -> bool:
        return state(self.lab) == "on"

    def write(self, drawn: random.Random) -> None:
        for n in ("0", "second"):
            at, length = drawn.randrange(0, SIZE - 65536, 512), drawn.choice((512, 4096, 65536))
            self.io(n, f"write -P {drawn.randrange(1, 255)} {at} {length}")

    def io(self, disk: str, words: str) -> None:
        """Write as the guest would, through its device, or with QEMU's own tool while it is off."""
        if not self.on:
            path = self.lab.guest_folder("gauge") / f"disk-{disk}.qcow2"
            subprocess.run(["qemu-io", "-c", words, path], check=True, capture_output=True)
            return
        with Qmp(run_folder(self.lab) / "watch") as qmp:
            for command in (words, "flush"):
                said = qmp.human(f'qemu-io -d /machine/peripheral/disk-{disk}-device/virtio-backend "{command}"')
                assert command == "flush" or "wrote" in said or said == "", said

    def contents(self) -> list[str]:
        found = []
        for path in self.files:
            raw = self.lab.folder / "raw"
            subprocess.run(["qemu-img", "convert", "-U", "-O", "raw", path, raw], check=True)
            found.append(hashlib.sha256(raw.read_bytes()).hexdigest())
        return found

    def listed(self) -> list[dict[str, Any]]:
        return list(self.lab("snapshot", "list", "--json").json["snapshots"])

    def inside(self) -> list[set[str]]:
        """The snapshots in each image, by QEMU's own tool."""
        found = []
        for path in self.files:
            said = subprocess.run(
                ["qemu-img", "info", "-U", "--output=json", path], check=True, capture_output=True, text=True
            )
            found.append({s["name"] for s in json.loads(said.stdout).get("snapshots", ())})
        return found

    def sound(self) -> None:
        """Records, images and files agree, and no space is lost."""
        listed = self.listed()
        names = {f"dacha-{s['id']}" for s in listed}
        assert self.inside() == [names, names]
        folder = self.lab.guest_folder("gauge") / "snapshots"
        left = {p.name.partition(".")[0] for p in folder.iterdir()} - {"now", "restoring"} if folder.is_dir() else set()
        assert left == {s["id"] for s in listed}
        assert not (folder / "restoring").exists()
        if not self.on:
            for path in self.files:
                said = subprocess.run(["qemu-img", "check", path], capture_output=True, text=True, check=False)
                assert said.returncode == 0, said.stdout


@pytest.fixture
def disks(lab: Lab) -> Disks:
    lab.write(STILL)
    lab("apply", "--no-wait")
    return Disks(lab)


def killed(lab: Lab, words: list[str], after_s: float) -> None:
    """Run a command, and kill it with all that it started, unless it has ended by then."""
    command = subprocess.Popen(
        [PROGRAM, *words], cwd=lab.folder, env=lab.env, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
        start_new_session=True,
    )  # fmt: skip
    try:
        command.wait(after_s)
    except subprocess.TimeoutExpired:
        os.killpg(command.pid, 9)
        command.wait()


def test_a_random_walk_of_snapshots_keeps_every_byte(disks: Disks) -> None:
    lab, drawn = disks.lab, random.Random(int(os.environ.get("DACHA_SEED", "11")))
    made, done = 0, dict[str, int]()
    for step in range(STEPS):
        disks.write(drawn)
        kill = drawn.uniform(0.15, 0.9) if step % 3 == 2 else None
        names = list(disks.model)
        kind = drawn.choice(["add", "add", "restore", "remove", "power"] if names else ["add", "power"])
        before = disks.contents()
        if kind == "power":
            lab("stop", "gauge", "--force", "--wait", "0s") if disks.on else lab("start", "gauge", "--no-wait")
            for path in disks.files if not disks.on else ():
                # A process that was ended by force may leave space without an owner, as a power cut does.
                subprocess.run(["qemu-img", "check", "-q", "-r", "leaks", path], check=False, capture_output=True)
            continue
        name = f"s{made}" if kind == "add" else drawn.choice(names)
        made += kind == "add"
        words = ["snapshot", kind, name, "gauge", *(["--yes"] if kind == "restore" else [])]
        done[kind + (" killed" if kill else "")] = done.get(kind + (" killed" if kill else ""), 0) + 1
        if kill:
            killed(lab, words, kill)
            # The next command completes what was begun.
            lab("apply", "--no-wait")
        else:
            lab(*words)
        there = {s["name"] for s in disks.listed()}
        after = disks.contents()
        if kind == "add" and name in there:
            disks.model[name] = before
        if kind == "remove" and name not in there:
            del disks.model[name]
        assert there == set(disks.model), (step, words, kill)
        if not kill:
            assert (name in there) == (kind != "remove")
        restored = [disks.model[name], *([before] if kill else [])] if kind == "restore" else []
        expected = restored or [before]
        assert after in expected, (step, words, kill)
        disks.sound()
    for name, contents in disks.model.items():
        lab("snapshot", "restore", name, "gauge", "--yes", "--no-start")
        assert disks.contents() == contents, name
        disks.sound()
    for name in list(disks.model):
        lab("snapshot", "remove", name, "gauge")
    assert disks.listed() == [] and disks.inside() == [set(), set()]
    print(f"{STEPS} steps: {done}")


def test_a_removed_snapshot_gives_its_room_back_while_the_guest_runs(disks: Disks) -> None:
    lab, drawn = disks.lab, random.Random(3)
    lab("snapshot", "add", "base", "gauge", "--about", "before the tide table")
    for _ in range(20):
        disks.write(drawn)
    lab("snapshot", "add", "full", "gauge")
    disks.io("0", "write -P 9 0 4M")
    cost = next(s["cost_bytes"] for s in disks.listed() if s["name"] == "full")
    used = disks.files[0].stat().st_blocks
    freed = lab("snapshot", "remove", "full", "gauge", "--json").json["removed"][0]["freed_bytes"]
    assert freed > 200_000 and abs(freed - cost) < 400_000, (freed, cost)
    assert disks.files[0].stat().st_blocks < used and state(lab) == "on"
    shown = lab("snapshot", "list").out
    assert "base (now)" in shown and "before the tide table" in shown


def test_snapshots_form_a_tree(disks: Disks) -> None:
    lab = disks.lab
    for name in ("a", "b"):
        lab("snapshot", "add", name, "gauge")
    lab("snapshot", "restore", "a", "gauge", "--yes")
    lab("snapshot", "add", "c", "gauge")
    by_name = {s["name"]: s for s in disks.listed()}
    assert by_name["b"]["parent"] == by_name["c"]["parent"] == by_name["a"]["id"] and by_name["c"]["current"]
    lab("snapshot", "remove", "a", "gauge")
    assert {s["name"]: s["parent"] for s in disks.listed()} == {"b": None, "c": None}
    disks.sound()


def test_bad_input_is_refused_before_anything_changes(disks: Disks) -> None:
    lab = disks.lab
    lab("snapshot", "add", "one", "gauge")
    before = disks.contents()
    assert "gauge already has a snapshot one" in lab("snapshot", "add", "one", "gauge", code=2).err
    assert "cannot be the name of a snapshot" in lab("snapshot", "add", "../x", "gauge", code=2).err
    assert "gauge has no snapshot two" in lab("snapshot", "restore", "two", "gauge", "--yes", code=2).err
    assert "there is no guest gauze" in lab("snapshot", "add", "x", "gauze", code=2).err
    assert "requires a confirmation" in lab("snapshot", "restore", "one", "gauge", code=2).err
    lab("stop", "gauge", "--force", "--wait", "0s")
    assert "is off: it has no memory" in lab("snapshot", "add", "x", "gauge", "--memory", code=1).err
    # Another image in the disk's place: refused, and the remedy removes the record.
    other = lab.folder / "other.qcow2"
    subprocess.run(["qemu-img", "create", "-q", "-f", "qcow2", other, "4M"], check=True)
    kept = disks.files[0].rename(lab.folder / "kept.qcow2")
    other.rename(disks.files[0])
    done = lab("snapshot", "restore", "one", "gauge", "--yes", code=1)
    assert "disk 0 of gauge does not have the snapshot one" in done.err
    kept.rename(disks.files[0])
    lab("snapshot", "restore", "one", "gauge", "--yes", "--no-start")
    assert disks.contents() == before


@pytest.fixture
def gauge(guest_lab: Lab) -> Lab:
    guest_lab.write(LAB + LAB[LAB.index("[guest.gauge]") :].replace("gauge", "heron").replace("4.20", "4.21"))
    guest_lab("apply")
    return guest_lab


def test_with_memory_guests_continue_where_they_were(gauge: Lab) -> None:
    lab = gauge
    counting(lab)
    before = count(lab)
    said = lab("snapshot", "add", "both", "--all", "--memory").out
    assert said.count("of memory") == 2 and "stopped" in said
    inside(lab, "touch /run/later; rm -f /run/count; killall sh; true")
    lab("guest", "edit", "gauge", "--memory", "160MiB")
    out = lab("snapshot", "restore", "both", "--all", "--yes").out
    assert out.count("continues from its saved state") == 2
    # Its memory is that of the snapshot: it counts on, and knows nothing of what came later.
    assert count(lab) >= before and inside(lab, "ls /run/later 2> /dev/null || echo none").split()[-1] == "none"
    # What differs from the lab file is told.
    assert "guest gauge" in out and "memory 128 MiB → 160 MiB" in out
    # Without its memory it boots.
    lab("snapshot", "restore", "both", "gauge", "--yes", "--without-memory")
    assert count(lab) == 0
    # A memory that is gone is refused, with the way that is left.
    next((lab.guest_folder("gauge") / "snapshots").glob("*.memory")).unlink()
    done = lab("snapshot", "restore", "both", "gauge", "--yes", code=1)
    assert "cannot continue with the memory" in done.err and "--without-memory" in done.err


def test_a_snapshot_of_a_running_guest_freezes_it_and_always_thaws_it(gauge: Lab) -> None:
    lab = gauge
    inside(lab, "mkdir -p /run")
    frost = AGENT.replace(
        '*) printf \'{"return": {}}',
        "*fsfreeze-freeze*) echo frozen >> /run/frost; printf '{\"return\": 1}\\n' >&3 ;;\n"
        "*fsfreeze-thaw*) echo thawed >> /run/frost; printf '{\"return\": 1}\\n' >&3 ;;\n"
        '*) printf \'{"return": {}}',
    )
    assert "thawed" in frost
    with_agent(lab, frost)
    assert "its file systems were frozen" in lab("snapshot", "add", "one", "gauge").out
    assert inside(lab, "cat /run/frost").split() == ["frozen", "thawed"]
    # Other guests have no agent: it is said.
    assert "as no guest agent responds" in lab("snapshot", "add", "one", "heron").out
    drawn = random.Random(2)
    for n in range(4):
        inside(lab, "rm -f /run/frost")
        killed(lab, ["snapshot", "add", f"killed{n}", "gauge"], drawn.uniform(0.3, 0.6))
        until(lambda: state(lab) == "on")
        told = until(lambda: x if (x := inside(lab, "cat /run/frost 2> /dev/null || echo none").split()) else None)
        if "frozen" in told:
            until(lambda: "thawed" in inside(lab, "cat /run/frost"))
    time.sleep(0.1)
    lab("apply", "--no-wait")
    records = (lab.guest_folder("gauge") / "snapshots").glob("*.json")
    stages = [json.loads(p.read_text())["snapshot"]["stage"] for p in records]
    assert set(stages) == {""}
