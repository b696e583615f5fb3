"""A guest saved to disk uses nothing but disk space, and continues where it was; or says why it cannot."""

from __future__ import annotations

import json
import os
import random
import shutil
import subprocess
import time
from collections.abc import Callable
from pathlib import Path

import pytest

from tests.conftest import PROGRAM, Lab
from tests.log.test_ends import alive
from tests.states.world import LAB, count, counting, inside, state, with_agent

# So many commands are killed while they save a guest or let it continue; DACHA_KILLS for more.
KILLS = int(os.environ.get("DACHA_KILLS", "4"))
# So many times a guest is saved and continues beside a load; DACHA_SAVES for more.
SAVES = int(os.environ.get("DACHA_SAVES", "3"))


@pytest.fixture
def gauge(guest_lab: Lab) -> Lab:
    guest_lab.write(LAB)
    guest_lab("apply")
    return guest_lab


def note(lab: Lab) -> Path:
    return lab.guest_folder("gauge") / "saved.json"


def test_a_saved_guest_continues_where_it_was_with_the_right_clock(gauge: Lab) -> None:
    lab = gauge
    counting(lab)
    with_agent(lab)
    boot = inside(lab, "cat /proc/sys/kernel/random/boot_id")
    before, pid = count(lab), lab.pid("gauge")
    said = lab("pause", "gauge", "--save")
    assert "saved to disk" in said.out and "dacha start gauge continues it" in said.out
    assert not alive(pid) and state(lab) == "saved"
    assert not list(lab.guest_folder("gauge").glob("*.part")) and not list(lab.guest_folder("gauge").glob(".*part"))
    # Applied, looked at, asked for: it stays as it is, and each command says so.
    assert "its memory is saved to disk: dacha start gauge" in lab("apply").out
    assert "memory saved to disk" in lab("trace", "gauge", code=1).out
    assert "is off, with its memory saved to disk" in lab("connect", "gauge", "--", "true", code=1).err
    assert "saved to disk, not paused" in lab("resume", "gauge", code=1).err
    assert "cannot restart before it continues" in lab("restart", "gauge", code=1).err
    assert "dacha start gauge continues it" in lab("stop", "gauge").out
    time.sleep(5)
    out = lab("start", "gauge").out
    assert "continues from its saved state" in out and "behind: set by its guest agent" in out
    assert inside(lab, "cat /proc/sys/kernel/random/boot_id") == boot and count(lab) > before
    asked = time.time()
    # Its clock tells whole seconds, and on a busy machine its console takes its time to answer. It was off for longer.
    assert asked - 3 < int(inside(lab, "date -u +%s").split()[-1]) < time.time() + 3
    assert lab("connect", "gauge", "--", "echo in").out == "in\n"
    assert not note(lab).exists() and not (lab.guest_folder("gauge") / "saved-memory").exists()
    kinds = [json.loads(line)["kind"] for line in lab("log", "gauge", "--json").out.splitlines()]
    assert sorted(kinds[-3:]) == ["continued", "ended", "saved"]


def test_a_changed_lab_file_waits_until_the_guest_has_continued_and_restarts(gauge: Lab) -> None:
    lab = gauge
    counting(lab)
    lab("pause", "gauge", "--save")
    lab("guest", "edit", "gauge", "--memory", "160MiB")
    lab("door", "add", "gauge", "http", "--port", "8123")
    out = lab("start", "gauge", "--no-wait").out
    assert "memory 128 MiB → 160 MiB" in out and "at next start" in out and count(lab) > 0
    # A door needs nothing of the guest: it is open as the file says.
    assert (8123) in [d["port"] for g in lab("status", "--json", code=None).json["guests"] for d in g["doors"]]
    lab("restart", "gauge", "--no-wait", "--force")
    assert count(lab) == 0 and "everything applied" in lab("diff").out


def disk_changed(lab: Lab) -> None:
    disk = lab.guest_folder("gauge") / "disk-0.qcow2"
    subprocess.run(["qemu-io", "-c", "write 1M 64k", disk], check=True, capture_output=True)


def backup_restored(lab: Lab) -> None:
    disk = lab.guest_folder("gauge") / "disk-0.qcow2"
    subprocess.run(["cp", disk, lab.folder / "backup"], check=True)
    subprocess.run(["cp", lab.folder / "backup", disk], check=True)


def memory_cut(lab: Lab) -> None:
    with (lab.guest_folder("gauge") / "saved-memory").open("r+b") as f:
        f.truncate(100_000)


def memory_gone(lab: Lab) -> None:
    (lab.guest_folder("gauge") / "saved-memory").unlink()


def edited(key: str, value: str) -> Callable[[Lab], None]:
    def change(lab: Lab) -> None:
        raw = json.loads(note(lab).read_text())
        note(lab).write_text(json.dumps(raw | {key: value, "program": "another"}))

    return change


def damaged(lab: Lab) -> None:
    note(lab).write_text("{")


MISFITS: dict[str, tuple[Callable[[Lab], None], str]] = {
    "its disk was written to": (disk_changed, "disk 0 was changed since the guest was saved"),
    "a backup of its disk was restored": (backup_restored, "disk 0 was changed since the guest was saved"),
    "its memory was truncated": (memory_cut, "has 100000 bytes instead of"),
    "its memory was deleted": (memory_gone, "its saved memory is gone"),
    "an older QEMU": (edited("qemu", "99.1.0"), "saved by QEMU 99.1.0, and QEMU on this host is the older version"),
    "another processor": (edited("processor", "Example 9000"), "saved on another processor: Example 9000"),
    "a damaged record": (damaged, "the record of gauge's saved memory is damaged"),
}


def test_a_saved_state_that_does_not_fit_is_never_used(gauge: Lab) -> None:
    lab, folder, kept = gauge, gauge.guest_folder("gauge"), gauge.folder / "kept"
    counting(lab)
    lab("pause", "gauge", "--save")
    kept.mkdir()
    files = ("disk-0.qcow2", "saved-memory", "saved.json")
    for file in files:
        shutil.copy2(folder / file, kept / file)
    for name, (change, words) in MISFITS.items():
        change(lab)
        done = lab("start", "gauge", "--no-wait", code=3)
        assert words in done.err and "dacha start gauge --discard-saved" in done.err, (name, done)
        assert words in lab("check", code=None).out, name
        assert state(lab) == "saved", name
        for file in files:
            shutil.copy2(kept / file, folder / file)
    # As it was, it continues; and the remedy does what it says, word for word.
    lab("start", "gauge", "--no-wait")
    assert count(lab) > 0
    lab("pause", "gauge", "--save")
    memory_cut(lab)
    out = lab("start", "gauge", "--discard-saved", "--no-wait").out
    assert "deleted its saved memory" in out and count(lab) == 0


def test_a_state_that_qemu_cannot_read_is_kept(gauge: Lab) -> None:
    lab = gauge
    counting(lab)
    lab("pause", "gauge", "--save")
    memory = lab.guest_folder("gauge") / "saved-memory"
    whole = memory.read_bytes()
    memory.write_bytes(b"\0" * len(whole))
    done = lab("start", "gauge", "--no-wait", code=3)
    assert "cannot continue from its saved state" in done.err and "--discard-saved" in done.err
    assert state(lab) == "saved"
    memory.write_bytes(whole)
    lab("start", "gauge", "--no-wait")
    assert count(lab) > 0


def test_a_guest_that_cannot_be_saved_goes_on(gauge: Lab) -> None:
    lab = gauge
    counting(lab)
    lab("guest", "edit", "gauge", "--add-disk", "1MiB")
    lab("apply", "--no-wait")
    done = lab("pause", "gauge", "--save", code=1)
    assert "a disk was attached or detached while it runs" in done.err and "dacha restart gauge" in done.err
    assert count(lab) > 0 and state(lab) == "on"
    lab("stop", "gauge", "--force", "--wait", "0s")
    assert "is off: there is nothing to save" in lab("pause", "gauge", "--save", code=1).err
    lab("start", "gauge", "--no-wait")
    # A guest that was paused is saved as it is.
    counting(lab)
    lab("pause", "gauge")
    lab("pause", "gauge", "--save")
    assert "gauge is already saved" in lab("pause", "gauge", "--save", code=1).err
    lab("start", "gauge", "--no-wait")
    assert count(lab) > 0


@pytest.mark.whole
def test_without_room_for_its_memory_a_guest_goes_on(guest_lab: Lab) -> None:
    lab = guest_lab
    place = lab.folder / "state"
    place.mkdir(exist_ok=True)
    subprocess.run(["mount", "-t", "tmpfs", "-o", "size=60m,mode=700", "tmpfs", place], check=True)
    try:
        lab.write(LAB)
        lab("apply")
        counting(lab)
        done = lab("pause", "gauge", "--save", code=3)
        assert "no room to save gauge" in done.err and "is free in" in done.err
        assert state(lab) == "on" and count(lab) > 0
    finally:
        lab("stop", "--all", "--force", "--wait", "0s", code=None)
        subprocess.run(["umount", "--lazy", place], check=True)


def test_a_command_killed_at_any_moment_loses_no_guest(gauge: Lab) -> None:
    lab, drawn = gauge, random.Random(int(os.environ.get("DACHA_SEED", "5")))
    counting(lab)
    # Killed between the last byte of its memory and its record: a moment that chance seldom meets.
    folder = lab.guest_folder("gauge")
    (folder / "saved-memory").write_bytes(b"complete, but not recorded")
    (folder / "saving").write_text("on")
    assert "nothing to do" in lab("start", "gauge", "--no-wait").out
    assert not (folder / "saved-memory").exists() and not (folder / "saving").exists()
    # Killed while what a guest that continued no longer needs was being deleted.
    (folder / "saved-memory").write_bytes(b"of a state that is never used again")
    (folder / "continuing.json").write_text("{}")
    assert "nothing to do" in lab("start", "gauge", "--no-wait").out
    assert not (folder / "saved-memory").exists() and not (folder / "continuing.json").exists()
    reached, seen = count(lab), set[str]()
    for round_ in range(KILLS):
        words = ["start", "gauge", "--no-wait"] if round_ % 2 else ["pause", "gauge", "--save"]
        if round_ % 2 and state(lab) != "saved":
            lab("pause", "gauge", "--save")
        command = subprocess.Popen([PROGRAM, *words], cwd=lab.folder, env=lab.env, stdout=subprocess.DEVNULL,
                                   stderr=subprocess.DEVNULL)  # fmt: skip
        time.sleep(drawn.uniform(0.1, 1.2))
        command.kill()
        command.wait()
        seen.add(state(lab))
        lab("start", "gauge", "--no-wait")
        now = count(lab)
        assert now >= reached, (round_, words, now, reached)
        reached = now
        left = sorted(p.name for p in lab.guest_folder("gauge").iterdir() if p.name.startswith(("sav", ".sav", "cont")))
        assert left == [], (round_, words, left)
    assert "everything applied" in lab("diff").out
    print(f"{KILLS} kills, seen afterwards: {sorted(seen)}")


def test_a_guest_that_is_to_be_saved_with_the_host_continues_at_its_next_boot(gauge: Lab) -> None:
    lab = gauge
    lab("guest", "edit", "gauge", "--when-host-stops", "save", "--at-boot")
    assert 'when-host-stops = "save"' in lab.file.read_text()
    counting(lab)
    before = count(lab)
    # As the unit does when systemd shuts this host down, and the caretaker after its boot.
    code = (
        "from dacha.caretaker.boot import start_guests, stop_guests\nfrom dacha.engine.workspace import load\n"
        "import sys\nws = load(sys.argv[1])\n"
        "stop_guests(ws, lambda *step: print(*step)) if sys.argv[2] == 'stop' else start_guests(ws, print)\n"
    )
    python = str(Path(PROGRAM).with_name("python"))
    for step, words in (("stop", "saved to disk"), ("start", "continues from its saved state")):
        done = subprocess.run(
            [python, "-c", code, lab.file, step], env=lab.env, capture_output=True, text=True, check=True
        )
        assert words in done.stdout, done
        assert state(lab) == ("saved" if step == "stop" else "on")
    assert count(lab) >= before


def test_saves_and_starts_in_a_row_beside_a_load_lose_nothing(gauge: Lab) -> None:
    lab = gauge
    counting(lab)
    boot, reached = inside(lab, "cat /proc/sys/kernel/random/boot_id"), 0
    load = [subprocess.Popen(["sh", "-c", "while :; do :; done"]) for _ in range(os.cpu_count() or 1)]
    try:
        for round_ in range(SAVES):
            lab("pause", "gauge", "--save")
            lab("start", "gauge", "--no-wait")
            now = count(lab)
            assert now >= reached > -1, round_
            reached = now
    finally:
        for process in load:
            process.kill()
            process.wait()
    assert inside(lab, "cat /proc/sys/kernel/random/boot_id") == boot
    print(f"{SAVES} saves and starts, and the guest has counted to {reached}")
