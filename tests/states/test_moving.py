"""A disk is moved to another storage while its guest writes to it, or is off; a killed move leaves one disk."""

from __future__ import annotations

import os
import random
import subprocess
import sys
import time
from pathlib import Path

import pytest

from tests.conftest import PROGRAM, Lab
from tests.networks.world import until
from tests.states.world import LAB, count, counting, inside, state

# So many moves are killed; DACHA_KILLS for more.
KILLS = int(os.environ.get("DACHA_KILLS", "4"))
STORAGES = '[storage.big]\npath = "big"\n[storage.other]\npath = "other"\n'


def with_storages(lab: Lab) -> Lab:
    for name in ("big", "other"):
        (lab.folder / name).mkdir()
    lab.write(LAB.replace("[guest.gauge]", STORAGES + "[guest.gauge]"))
    lab("apply")
    return lab


def file_of(lab: Lab) -> Path:
    return (lab.guest_folder("gauge") / "disk-0.qcow2").resolve()


def images(lab: Lab) -> list[Path]:
    """Every file that may be a disk of the guest."""
    found = [*lab.guest_folder("gauge").glob("*disk-0*.qcow2"), *lab.guest_folder("gauge").glob(".mov*"),
             *lab.folder.glob("big/disks/*/*"), *lab.folder.glob("other/disks/*/*")]  # fmt: skip
    return [p for p in found if not p.is_symlink() and "heron" not in p.name]


def put(lab: Lab, text: str) -> None:
    inside(lab, f"echo {text} > /run/text; dd if=/run/text of=/dev/vda bs=512 count=1 2> /dev/null; sync")


def got(lab: Lab) -> str:
    """The first line of its disk; right after a start its console may have other things to say."""
    for _ in range(20):
        if said := inside(lab, "dd if=/dev/vda bs=512 count=1 iflag=direct 2> /dev/null | head -n 1").split():
            return said[-1]
        time.sleep(0.5)
    return ""


def first_line_of(disk: Path, passphrase: str) -> str:
    """The first line of an encrypted disk."""
    raw = disk.with_suffix(".raw")
    opened = f"driver=qcow2,encrypt.key-secret=k,file.filename={disk}"
    secret = ["--object", f"secret,id=k,data={passphrase}"]
    subprocess.run(["qemu-img", "convert", *secret, "--image-opts", "-O", "raw", opened, raw], check=True)
    with raw.open("rb") as f:
        line = f.readline().decode(errors="replace").strip()
    raw.unlink()
    return line


def first_line(disk: Path) -> str:
    raw = disk.with_suffix(".raw")
    subprocess.run(["qemu-img", "convert", "-O", "raw", disk, raw], check=True)
    with raw.open("rb") as f:
        return f.readline().decode().strip()


def test_a_disk_moves_while_its_guest_runs_and_while_it_is_off(guest_lab: Lab) -> None:
    lab = with_storages(guest_lab)
    counting(lab)
    pid, reached = lab.pid("gauge"), count(lab)
    put(lab, "first")
    lab("guest", "edit", "gauge", "--move-disk", "big")
    assert "move disk 0" in lab("diff", code=None).out and "to storage big" in lab("diff", code=None).out
    assert "moved disk 0" in lab("apply").out
    assert file_of(lab).parent.parent.parent == lab.folder / "big" and images(lab) == [file_of(lab)]
    assert got(lab) == "first" and lab.pid("gauge") == pid and count(lab) > reached
    put(lab, "second")
    # Everything that is done with a disk goes on, by its new node.
    lab("guest", "edit", "gauge", "--disk", "48MiB", "--move-disk", "0=other")
    lab("apply")
    assert got(lab) == "second" and inside(lab, "cat /sys/block/vda/size") == str(48 << 11)
    lab("guest", "copy", "gauge", "heron")
    # A copy is in the same storage from the start.
    heron = lab.guest_folder("heron") / "disk-0.qcow2"
    assert first_line(heron) == "second" and heron.resolve().is_relative_to(lab.folder / "other")
    assert "move disk" not in lab("diff", code=None).out
    lab("snapshot", "add", "here", "gauge")
    put(lab, "third")
    # With a snapshot in it, it moves as a whole, when the guest is off.
    lab("guest", "edit", "gauge", "--move-disk", "none")
    done = lab("apply", code=None)
    assert "as it has snapshots" in done.out and "restart gauge" in done.out
    lab("restart", "gauge", "--force", "--no-wait")
    assert images(lab) == [lab.guest_folder("gauge") / "disk-0.qcow2"] and got(lab) == "third"
    lab("snapshot", "restore", "here", "gauge", "--yes")
    assert got(lab) == "second" and "everything applied" in lab("diff").out
    # A saved guest's disk is the same one wherever it is.
    counting(lab)
    lab("pause", "gauge", "--save")
    lab("guest", "edit", "gauge", "--move-disk", "big")
    assert "moved disk 0" in lab("apply", code=None).out and state(lab) == "saved"
    lab("start", "gauge", "--no-wait")
    assert count(lab) > 0 and got(lab) == "second"


@pytest.mark.whole
def test_a_move_that_is_killed_leaves_one_disk_with_everything(guest_lab: Lab) -> None:
    lab, drawn = with_storages(guest_lab), random.Random(int(os.environ.get("DACHA_SEED", "4")))
    places = {"big": lab.folder / "big", "other": lab.folder / "other", "none": lab.guest_folder("gauge")}
    at, seen = "none", set[str]()
    for round_ in range(KILLS):
        to = drawn.choice([p for p in places if p != at])
        on = drawn.random() < 0.7
        if on != (state(lab) == "on"):
            lab("start" if on else "stop", "gauge", *([] if on else ["--force", "--wait", "0s"]))
        if on:
            put(lab, f"round-{round_}")
        lab("guest", "edit", "gauge", "--move-disk", to)
        command = subprocess.Popen([PROGRAM, "apply", "--no-wait"], cwd=lab.folder, env=lab.env,
                                   stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)  # fmt: skip
        time.sleep(drawn.uniform(0.2, 0.9))
        command.kill()
        command.wait()
        if on:
            put(lab, f"during-{round_}")
        if killed := drawn.random() < 0.3:
            lab("stop", "gauge", "--force", "--wait", "0s")
        seen.add(f"{'on' if on else 'off'}{' then off' if killed else ''} {images(lab)[1:] != []}")
        lab("apply", "--no-wait", code=None)
        lab("start", "gauge")
        assert images(lab) == [file_of(lab)], (round_, to)
        assert file_of(lab).is_relative_to(places[to]), (round_, to)
        assert not on or got(lab) == f"during-{round_}", round_
        at = to
    print(f"{KILLS} kills: {sorted(seen)}")


def test_a_move_without_room_or_place_changes_nothing(guest_lab: Lab) -> None:
    lab = with_storages(guest_lab)
    put(lab, "kept")
    assert "the lab has no storage bog" in lab("guest", "edit", "gauge", "--move-disk", "bog", code=2).err
    assert "has no disk 7" in lab("guest", "edit", "gauge", "--move-disk", "7=big", code=2).err
    subprocess.run(["mount", "-t", "tmpfs", "-o", "size=1m,mode=700", "tmpfs", lab.folder / "big"], check=True)
    try:
        lab("guest", "edit", "gauge", "--move-disk", "big")
        done = lab("apply", code=3)
        assert "no space for disk 0 of gauge in" in done.err and "is free" in done.err
        assert images(lab) == [lab.guest_folder("gauge") / "disk-0.qcow2"] and got(lab) == "kept"
    finally:
        subprocess.run(["umount", lab.folder / "big"], check=True)
    until(lambda: state(lab) == "on")
    lab("apply")
    assert got(lab) == "kept"


@pytest.mark.parametrize("after", [False, True], ids=["before its link", "after its link"])
@pytest.mark.parametrize(
    "ends", [pytest.param(False, marks=pytest.mark.whole), True], ids=["its guest runs on", "its guest ends too"]
)
def test_a_move_killed_beside_its_one_decisive_step(guest_lab: Lab, after: bool, ends: bool) -> None:
    lab = with_storages(guest_lab)
    put(lab, "before")
    lab("guest", "edit", "gauge", "--move-disk", "big")
    code = f"""
import os, sys
from dacha.engine.disks import moving
real = moving._relink
moving._relink = lambda *a, **k: ({after} and real(*a, **k), os._exit(9))
from dacha.cli.main import main
main(["apply", "--no-wait"])
"""
    done = subprocess.run([sys.executable, "-c", code], cwd=lab.folder, env=lab.env, capture_output=True, check=False)
    assert done.returncode == 9, done
    put(lab, "since")
    assert got(lab) == "since"
    if ends:
        lab("stop", "gauge", "--force", "--wait", "0s")
        lab("start", "gauge", "--no-wait")
    else:
        lab("apply", "--no-wait")
    assert got(lab) == "since" and images(lab) == [file_of(lab)]
    lab("apply", "--no-wait")
    assert file_of(lab).is_relative_to(lab.folder / "big") and images(lab) == [file_of(lab)] and got(lab) == "since"
