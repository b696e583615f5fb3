"""A copy of a guest has its contents as they were at one moment, and an identity of its own."""

from __future__ import annotations

import hashlib
import json
import random
import shutil
import subprocess
from pathlib import Path

import pytest

from tests.conftest import Lab
from tests.states.test_snapshots import killed
from tests.states.world import LAB, inside, state

TWO = """\
[lab]
name = "states"
[network.pier]
kind = "nat"
[guest.gauge]
memory = "32 MiB"
video = false
adapter = [{ network = "pier" }]
disk = [{ from = "base.raw", size = "8 MiB" }, { size = "2 MiB", name = "second" }]
stop-after = "0 s"
[guest.gauge.door.web]
service = "http"
from = "host"
port = 8190
"""


def contents(lab: Lab, guest: str, disk: str = "0") -> str:
    raw = lab.folder / "raw"
    path = lab.guest_folder(guest) / f"disk-{disk}.qcow2"
    subprocess.run(["qemu-img", "convert", "-U", "-O", "raw", path, raw], check=True)
    return hashlib.sha256(raw.read_bytes()).hexdigest()


def backing(lab: Lab, guest: str) -> str | None:
    path = lab.guest_folder(guest) / "disk-0.qcow2"
    said = subprocess.run(["qemu-img", "info", "-U", "--output=json", path], check=True, capture_output=True, text=True)
    name = json.loads(said.stdout).get("backing-filename")
    return None if name is None else str(name)


@pytest.fixture
def two(lab: Lab) -> Lab:
    """A guest whose first disk is on an image, written to."""
    drawn = random.Random(1)
    (lab.folder / "base.raw").write_bytes(bytes(510) + b"\x55\xaa" + drawn.randbytes(1 << 20) + bytes((1 << 20) - 512))
    lab.write(TWO)
    lab("apply", "--no-wait")
    lab("stop", "gauge", "--force", "--wait", "0s")
    for disk in ("0", "second"):
        path = lab.guest_folder("gauge") / f"disk-{disk}.qcow2"
        subprocess.run(["qemu-io", "-c", "write -P 7 512k 200k", path], check=True, capture_output=True)
    return lab


@pytest.mark.parametrize("on", [True, False], ids=["running", "off"])
def test_a_copy_has_the_contents_and_shares_the_image_below(two: Lab, on: bool) -> None:
    lab = two
    if on:
        lab("start", "gauge", "--no-wait")
    lab("guest", "copy", "gauge", "heron")
    lab("guest", "copy", "gauge", "tern", "--whole")
    for disk in ("0", "second"):
        assert contents(lab, "heron", disk) == contents(lab, "tern", disk) == contents(lab, "gauge", disk)
    assert backing(lab, "heron") == backing(lab, "gauge") is not None and backing(lab, "tern") is None
    assert state(lab) == ("on" if on else "off")
    # It is a guest like any other, with ports and hardware of its own.
    lab("apply", "--no-wait")
    assert state(lab, "heron") == "on"
    shown = lab("guest", "list", "--json").json["guests"]
    assert len({d["port"] for g in shown for d in g["doors"]}) == 3
    assert "no problems" in lab("check").out or "note:" in lab("check").out


def test_a_copy_that_is_refused_or_killed_leaves_nothing(two: Lab) -> None:
    lab = two
    lab("start", "gauge", "--no-wait")
    assert "a guest gauge already exists" in lab("guest", "copy", "gauge", "gauge", code=2).err
    assert "no guest heron exists" in lab("guest", "copy", "heron", "x", code=2).err
    text = lab.file.read_text()
    lab("guest", "copy", "gauge", "heron", "--address", "300.1.2.3", code=2)
    folder = lab.guest_folder("gauge").parent
    assert lab.file.read_text() == text and [p.name for p in folder.iterdir()] == ["gauge"]
    drawn = random.Random(4)
    for n in range(5):
        killed(lab, ["guest", "copy", "gauge", f"copy{n}"], drawn.uniform(0.2, 0.5))
        lab("apply", "--no-wait")
        known = {g["name"] for g in lab("guest", "list", "--json").json["guests"]}
        assert {p.name for p in folder.iterdir()} == known, n
    assert state(lab) == "on"
    left = [p for p in folder.rglob("*") if p.name == "copying" or p.name.endswith(".part")]
    assert left == []


@pytest.mark.guest
def test_a_copy_of_a_running_guest_boots_with_a_name_and_a_host_key_of_its_own(guest_lab: Lab) -> None:
    lab = guest_lab
    lab.write(LAB)
    lab("apply")
    inside(lab, "d=$(mount | sed -n 's,^/dev/vda on \\([^ ]*\\) .*,\\1,p'); echo of-gauge > $d/mark; sync")
    lab("guest", "copy", "gauge", "heron")
    lab("apply")
    said = inside(lab, "cat $(mount | sed -n 's,^/dev/vda on \\([^ ]*\\) .*,\\1,p')/mark", "heron")
    assert said.endswith("of-gauge")
    assert lab("connect", "heron", "--", "hostname").out == "heron\n"
    keys = [(Path(lab.guest_folder(g)) / "host_key.pub").read_text() for g in ("gauge", "heron")]
    assert keys[0] != keys[1]


def test_where_blocks_are_shared_a_copy_of_a_written_disk_takes_no_room(lab: Lab, tmp_path: Path) -> None:
    place, file = tmp_path / "shared", tmp_path / "xfs.img"
    place.mkdir()
    with file.open("wb") as f:
        f.truncate(400 << 20)
    subprocess.run(["mkfs.xfs", "-q", file], check=True)
    subprocess.run(["mount", "-o", "loop", file, place], check=True)
    try:
        lab.env["DACHA_STATE"] = str(place / "state")
        lab.write(TWO.replace('{ from = "base.raw", size = "8 MiB" }, ', '{ size = "128 MiB" }, '))
        lab("apply", "--no-wait")
        lab("stop", "gauge", "--force", "--wait", "0s")
        disk = place / "state/labs/states/guests/gauge/disk-0.qcow2"
        subprocess.run(["qemu-io", "-c", "write -P 7 0 100M", disk], check=True, capture_output=True)
        before = shutil.disk_usage(place).free
        lab("guest", "copy", "gauge", "heron", "--whole")
        assert before - shutil.disk_usage(place).free < 20 << 20
        copy = disk.parent.parent / "heron/disk-0.qcow2"
        subprocess.run(["qemu-img", "compare", "-q", disk, copy], check=True)
        # They are two disks: what one guest writes is not the other's; and compaction writes an image anew.
        subprocess.run(["qemu-io", "-c", "write -P 9 0 1M", copy], check=True, capture_output=True)
        assert subprocess.run(["qemu-img", "compare", "-q", disk, copy], check=False).returncode == 1
        subprocess.run(["qemu-io", "-c", "write -z 0 90M", copy], check=True, capture_output=True)
        lab("guest", "compact", "heron")
        assert copy.stat().st_blocks * 512 < 20 << 20
        lab("guest", "remove", "heron", "--with-disks")
        lab("apply", "--no-wait")
        lab("stop", "--all", "--force", "--wait", "0s")
    finally:
        subprocess.run(["umount", "-l", place], check=True)
