"""A guest's archives by schedule: made, read back, kept as many as the lab file says; and nothing else deleted."""

from __future__ import annotations

import contextlib
import json
import os
import random
import subprocess
import sys
import time
from datetime import UTC, datetime
from pathlib import Path

import pytest

from tests.conftest import PROGRAM, Lab
from tests.networks.world import until
from tests.states.test_archive import contents
from tests.states.world import LAB

DAY_S = 86_400
# Makes what is due at a time, as the caretaker does.
MAKE = """\
import json, sys
from functools import partial
from dacha.engine.archive.scheduled import make_due
from dacha.engine.workspace import load
ws, now = load(sys.argv[1]), float(sys.argv[2])
made = make_due(ws, now, partial(ws.home.lock, "guest save", ws.path), lambda *told: None, list(ws.lab.guests))
print(json.dumps([[m.guest, str(m.file), [p.name for p in m.deleted], m.error and m.error.what] for m in made]))
"""
# Looks every moment, as the caretaker does every half minute.
CARE = """\
import asyncio, sys
from dacha.caretaker.minding import archiving
from dacha.caretaker.minding.alerts import Alerts
from dacha.engine.workspace import load
archiving.FIRST_S, archiving.LOOK_S, archiving.AGAIN_S = 0.0, 0.2, 3.0
async def main():
    alerts = Alerts()
    made = archiving.Archiving(alerts, print)
    alerts.renew(load(sys.argv[1]))
    made.renew(load(sys.argv[1]))
    await asyncio.sleep(float(sys.argv[2]))
asyncio.run(main())
"""


def scheduled(lab: Lab, **more: str) -> Path:
    """A guest with a disk and a nightly schedule, off; the folder of its archives."""
    words = "".join(f", {key} = {value}" for key, value in more.items())
    lab.write(LAB + f'archive = {{ folder = "archives", at = "02:30"{words} }}\n')
    lab("apply", "--no-wait")
    lab("stop", "gauge", "--force", "--wait", "0s")
    folder = lab.folder / "archives"
    folder.mkdir()
    return folder


def made_at(lab: Lab, now: float) -> list[list[str]]:
    done = subprocess.run(
        [sys.executable, "-c", MAKE, lab.file, str(now)], env=lab.env, capture_output=True, text=True, check=True
    )
    return list(json.loads(done.stdout))


def written(lab: Lab, day: int, at: float) -> None:
    """As its guest writes to its disk at a time."""
    disk = lab.guest_folder("gauge") / "disk-0.qcow2"
    subprocess.run(["qemu-io", "-c", f"write -P {day} 1M 64k", disk], check=True, capture_output=True)
    os.utime(disk, (at, at))


@pytest.mark.whole
def test_three_weeks_of_nights_keep_the_last_seven_and_each_is_the_disk_of_its_night(guest_lab: Lab) -> None:
    lab, folder = guest_lab, scheduled(guest_lab)
    own = "states.gauge.2020-01-01T000000Z.guest"
    others = ["notes.guest", "states.gauge.guest", own + ".txt", own.replace("states", "other"), ".film.mkv.part"]
    for name in others:
        (folder / name).write_text("somebody's")
    (folder / ".states.gauge.2020-01-01T000000Z.guest.12345678.part").write_text("of a killed command")
    start = datetime(2027, 3, 1, 12, tzinfo=UTC).timestamp()
    before, disks = [], {}
    for day in range(21):
        written(lab, day, start + day * DAY_S - 60)
        ((guest, file, deleted, error),) = made_at(lab, start + day * DAY_S)
        assert (guest, error) == ("gauge", None) and len(deleted) == (1 if day >= 7 else 0)
        before.append(file)
        disks[file] = contents(lab, "gauge")
        # It was made: nothing is due until the next night.
        assert made_at(lab, start + day * DAY_S + 3600) == []
    there = sorted(p.name for p in folder.iterdir())
    assert there == sorted([*others, *(Path(f).name for f in before[-7:])])
    # An unchanged guest that is off is not saved again, however long.
    assert made_at(lab, start + 60 * DAY_S) == []
    # Any of them gives back the disk of its night.
    lab("guest", "load", before[-5], "heron")
    assert contents(lab, "heron") == disks[before[-5]] != disks[before[-1]]


def test_a_failed_archive_deletes_nothing_and_is_told(guest_lab: Lab) -> None:
    lab, folder = guest_lab, scheduled(guest_lab, keep="1")
    now = time.time()
    (first,) = made_at(lab, now - 2 * DAY_S)
    written(lab, 1, now)
    # Its file system is not there: nothing is written elsewhere in its place.
    folder.chmod(0o777)
    assert "every user may write" in lab("guest", "archives", "--make", code=3).err
    folder.chmod(0o700)
    folder.rename(lab.folder / "away")
    done = lab("guest", "archives", "--make", code=3)
    assert "does not exist" in done.err and f"mount it, or: mkdir -p {folder}" in done.err
    assert "does not exist" in lab("check", code=None).out
    assert not folder.exists()
    (lab.folder / "away").rename(folder)
    # No room: the earlier archive stays, and nothing half-written.
    subprocess.run(["mount", "-t", "tmpfs", "-o", "size=1m,mode=700", "tmpfs", folder], check=True)
    try:
        subprocess.run(["sh", "-c", f"cat /dev/zero > {folder}/full || true"], check=False, capture_output=True)
        assert "No space left" in lab("guest", "archives", "gauge", "--make", code=3).err
        assert [p.name for p in folder.iterdir()] == ["full"]
    finally:
        subprocess.run(["umount", folder], check=True)
    assert [str(p) for p in folder.iterdir()] == [first[1]]
    said = lab("log", "gauge").out
    assert said.count("could not be saved to its next archive") == 3
    lab("guest", "archives", "--make")
    assert len(list(folder.iterdir())) == 1 and first[1] not in map(str, folder.iterdir())


def test_the_caretaker_makes_them_and_runs_the_command_for_a_failure(guest_lab: Lab) -> None:
    lab, folder = guest_lab, scheduled(guest_lab)
    lab.write(lab.file.read_text() + "[on.archive-failed]\nrun = \"sh -c 'echo $DACHA_TEXT >> failed'\"\n")
    folder.rmdir()
    care = subprocess.Popen([sys.executable, "-c", CARE, lab.file, "120"], env=lab.env, stdout=subprocess.DEVNULL)
    try:
        until(lambda: (lab.folder / "failed").is_file())
        folder.mkdir()
        until(lambda: len(list(folder.glob("*.guest"))) == 1)
    finally:
        care.kill()
        care.wait()
    assert "gauge could not be saved to its archive: the folder" in (lab.folder / "failed").read_text()
    listed = lab("guest", "archives").out
    assert "gauge" in listed and ".guest" in listed and "Due now" not in listed
    shown = lab("guest", "show", "gauge").out
    assert "every 24 h at 02:30 to archives, 7 kept" in shown and "last archive" in shown


def test_other_commands_are_free_while_a_running_guest_is_saved(guest_lab: Lab) -> None:
    lab = guest_lab
    lab.write(LAB)
    lab("apply", "--no-wait")
    lab("stop", "gauge", "--force", "--wait", "0s")
    # Contents that cannot be compressed.
    (lab.folder / "filled").write_bytes(random.Random(3).randbytes(32 << 20))
    disk = lab.guest_folder("gauge") / "disk-0.qcow2"
    subprocess.run(["qemu-img", "convert", "-O", "qcow2", lab.folder / "filled", disk], check=True)
    lab("start", "gauge", "--no-wait")
    reader = subprocess.Popen(
        [PROGRAM, "guest", "save", "gauge", "-"], env=lab.env, cwd=lab.folder, stdout=subprocess.PIPE
    )
    assert reader.stdout
    try:
        # The pipe is full, and nobody reads on: the archive takes as long as this test.
        reader.stdout.read(4096)
        took = time.monotonic()
        assert "gauge is being saved to an archive" in lab("snapshot", "add", "early", "gauge", code=3).err
        lab("door", "add", "gauge", "http", "--port", "8124")
        lab("apply", "--no-wait")
        lab("pause", "gauge")
        lab("resume", "gauge")
        assert time.monotonic() - took < 60
        assert list(lab.guest_folder("gauge").glob(".archive-*"))
        rest = len(reader.stdout.read())
        assert reader.wait() == 0 and rest > 32 << 20
    finally:
        with contextlib.suppress(ProcessLookupError):
            reader.kill()
        reader.wait()
    assert not list(lab.guest_folder("gauge").glob(".archive-*"))
    lab("snapshot", "add", "late", "gauge")


def test_bad_schedules_are_refused_with_their_place(lab: Lab) -> None:
    for words, told in (
        ('folder = "a", every = "5 min"', "too short for a schedule"),
        ('folder = "a", every = "6 h", at = "02:30"', "requires an interval of whole days"),
        ('folder = "a", at = "24:00"', "is not a time of day"),
        ('folder = "a", keep = 0', "keep"),
        ('every = "1 day"', "folder is missing"),
    ):
        lab.write(LAB.replace("@BOOT@", "").replace("door.ssh", f"archive = {{ {words} }}\ndoor.ssh"))
        done = lab("check", code=None)
        assert told in done.out + done.err and "lab.toml:" in done.out + done.err, (words, done)
    lab.write(LAB.replace("@BOOT@", ""))
    assert "has no folder for archives" in lab("guest", "edit", "gauge", "--archive-keep", "3", code=2).err
    assert "has no schedule" in lab("guest", "archives", "gauge", code=2).err
    lab("guest", "edit", "gauge", "--archive-in", "nights", "--archive-at", "03:00", "--archive-keep", "3")
    assert 'folder = "nights"' in lab.file.read_text()
