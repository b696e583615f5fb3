"""Archives with only what changed: each gives back the disks of its moment, whatever happened between them."""

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
from typing import Any

import pytest

from tests.conftest import PROGRAM, Lab
from tests.networks.world import until
from tests.states.test_archive import packed, unpacked
from tests.states.test_schedule import DAY_S, MAKE, made_at
from tests.states.test_snapshots import SIZE, STILL, Disks

# Steps of the random walk; DACHA_STEPS for more.
STEPS = int(os.environ.get("DACHA_STEPS", "40"))
START = 1_800_000_000.0


class Nights:
    """A running guest, its archives, and what its disks had at the moment of each."""

    def __init__(self, lab: Lab, *, keep: int, whole_every: int) -> None:
        self.lab, self.night, self.folder = lab, 0, lab.folder / "archives"
        self.folder.mkdir()
        archive = f'archive = {{ folder = "archives", keep = {keep}, whole-every = {whole_every} }}\n'
        lab.write(STILL + archive)
        lab("apply", "--no-wait")
        self.disks = Disks(lab)
        self.had, self.loads = dict[str, list[str]](), 0

    def make(self) -> Path:
        """The next archive."""
        self.night += 1
        ((_, file, _, error),) = made_at(self.lab, START + self.night * DAY_S)
        assert error is None
        self.had[file] = self.disks.contents()
        return Path(file)

    def loaded(self, file: str) -> list[str]:
        """What the disks of a guest have that is loaded from an archive."""
        self.loads += 1
        name = f"heron{self.loads}"
        self.lab("guest", "load", file, name)
        found = Disks(self.lab, name).contents()
        self.lab("guest", "remove", name, "--with-disks")
        return found

    def agree(self) -> None:
        """Every archive that is there is what the disks were."""
        there = sorted(map(str, self.folder.glob("*.guest")))
        assert there
        for file in there:
            assert self.loaded(file) == self.had[file], file


def image_length(archive: Path) -> int:
    """The length of the first disk's image in an archive, before it was compressed."""
    return int(json.loads(unpacked(archive)[0][1])["disks"][0]["length"])


def bitmaps(disks: Disks) -> list[list[str]]:
    found = []
    for path in disks.files:
        said = subprocess.run(["qemu-img", "info", "-U", "--output=json", path], check=True, capture_output=True)
        data: dict[str, Any] = json.loads(said.stdout)["format-specific"]["data"]
        found.append([b["name"] for b in data.get("bitmaps", ())])
    return found


def test_changes_are_merged_into_the_whole_archive_before_them(lab: Lab) -> None:
    nights = Nights(lab, keep=3, whole_every=4)
    io = nights.disks.io
    io("0", "write -P 7 0 2M")
    files = [nights.make()]
    for words in ("write -P 8 1M 64k", "write -z 0 1M", "discard 1M 512k", "write -P 9 3M 512"):
        io("0", words)
        files.append(nights.make())
    assert ["since" in f.name for f in files] == [False, True, True, True, False]
    # Those with changes are small, and a whole one stays as long as one of the last three builds on it.
    assert files[0].exists() and image_length(files[1]) < image_length(files[0]) / 2
    nights.agree()
    listed = lab("guest", "archives").out
    assert listed.count(" changes ") == 3 and listed.count("whole disks") == 2
    said = lab("guest", "load", str(files[3]), "--check").out
    assert said.count("builds on") == 3
    for _ in range(2):
        io("second", "write -P 1 0 64k")
        files.append(nights.make())
    assert [f.exists() for f in files] == [False] * 4 + [True] * 3


def test_an_archive_with_changes_is_loaded_only_with_all_that_it_builds_on(lab: Lab) -> None:
    nights = Nights(lab, keep=9, whole_every=9)
    files = [nights.make()]
    for byte in (1, 2):
        nights.disks.io("0", f"write -P {byte} 0 64k")
        files.append(nights.make())
    last = files[-1]
    # Names do not matter, only what is in the files.
    files[1] = files[1].rename(files[1].with_name("other.guest"))
    assert nights.loaded(str(last)) == nights.had[str(last)]
    with last.open("rb") as stream:
        done = subprocess.run(
            [PROGRAM, "guest", "load", "-", "heron"], env=lab.env, cwd=lab.folder, stdin=stream, capture_output=True,
            text=True, check=False,
        )  # fmt: skip
    assert done.returncode == 1 and "only what changed since" in done.stderr and "load it from its file" in done.stderr
    # One is missing, damaged, or another one with the same claim.
    whole = files[0].read_bytes()
    files[0].unlink()
    for words in (["heron"], ["--check"]):
        done = lab("guest", "load", str(last), *words, code=1)
        assert "an archive is missing in" in done.err and "copy it into that folder" in done.err
    files[0].write_bytes(whole[:-1500])
    for words in (["heron"], ["--check"]):
        done = lab("guest", "load", str(last), *words, code=1)
        assert f"{files[0]}: the archive is damaged, or ends before it is complete" in done.err
    members = unpacked(last)
    manifest = json.loads(members[0][1])
    for changed in ({"depth": 1}, {"depth": 0}, {"depth": 10**9}, {"base": "../../etc"}, {"id": manifest["base"]}):
        wrong = json.dumps(manifest | changed).encode()
        (nights.folder / "wrong.guest").write_bytes(packed([("dacha-guest.json", wrong), *members[1:-1]]))
        assert lab("guest", "load", str(nights.folder / "wrong.guest"), "heron", code=1).err
    assert not list((lab.folder / "state").glob("labs/*/guests/heron"))


def test_what_qemu_does_not_vouch_for_makes_the_next_archive_whole(lab: Lab) -> None:
    nights = Nights(lab, keep=30, whole_every=30)
    disks = nights.disks

    def since_then(*, whole: bool) -> None:
        disks.io("0", f"write -P {nights.night + 1} 64k 128k")
        assert ("since" not in nights.make().name) == whole

    since_then(whole=True)
    since_then(whole=False)
    # A restart and a saved memory keep the bitmaps.
    lab("restart", "gauge", "--force", "--no-wait")
    since_then(whole=False)
    lab("pause", "gauge", "--save")
    lab("start", "gauge", "--no-wait")
    since_then(whole=False)
    # A snapshot is taken; it is restored.
    lab("snapshot", "add", "low", "gauge")
    since_then(whole=False)
    lab("snapshot", "restore", "low", "gauge", "--yes")
    lab("start", "gauge", "--no-wait")
    since_then(whole=True)
    # Its process is killed; it grows afterwards, while it runs and while it is off.
    os.kill(lab("status", "gauge", "--json", code=None).json["guests"][0]["pid"], signal.SIGKILL)
    until(lambda: not disks.on)
    lab("start", "gauge", "--no-wait")
    lab.write(lab.file.read_text().replace('size = "4 MiB" }', 'size = "6 MiB" }'))
    lab("apply", "--no-wait")
    since_then(whole=True)
    lab.write(lab.file.read_text().replace('size = "6 MiB" }', 'size = "7 MiB" }'))
    lab("apply", "--no-wait")
    since_then(whole=False)
    # Another program wrote to the image that knows no bitmaps: it clears their feature.
    lab("stop", "gauge", "--force", "--wait", "0s")
    with disks.files[0].open("r+b") as image:
        image.seek(88)
        image.write(bytes(8))
    lab("start", "gauge", "--no-wait")
    since_then(whole=True)
    nights.agree()
    # The archives before are gone, or the schedule wants all whole.
    for file in nights.folder.glob("*.guest"):
        file.unlink()
    since_then(whole=True)
    lab("guest", "edit", "gauge", "--archive-whole-every", "1")
    since_then(whole=True)
    nights.agree()


def test_a_guest_that_stops_before_its_changes_are_saved_has_no_archive_of_them(lab: Lab) -> None:
    nights = Nights(lab, keep=9, whole_every=9)
    nights.make()
    # What the next archive builds on is decided, and then the guest is stopped.
    script = (
        "import io, sys; from functools import partial; from dacha.engine.archive.basis import basis; "
        "from dacha.engine.archive.saving import save; from dacha.engine.power import power; "
        "from dacha.engine.workspace import load; from dacha.core.errors import HostError\n"
        "ws = load(sys.argv[1]); found = basis(ws, 'gauge'); assert found.base\n"
        "power.stop(ws.home, ['gauge'], wait_s=0.0, force=True)\n"
        "try: save(ws, 'gauge', io.BytesIO(), with_keys=False, progress=lambda *x: None,"
        " lock=partial(ws.home.lock, 'guest save', ws.path), basis=found)\n"
        "except HostError as e: print(e.what)\n"
    )
    done = subprocess.run([sys.executable, "-c", script, lab.file], env=lab.env, capture_output=True, text=True)
    assert done.stdout == "gauge was stopped before it could be saved\n", done


@pytest.mark.whole
def test_a_random_walk_with_killed_archives_loses_nothing(lab: Lab) -> None:
    drawn = random.Random(int(os.environ.get("DACHA_SEED", "36")))
    nights = Nights(lab, keep=5, whole_every=4)
    disks = nights.disks
    for _ in range(STEPS):
        match drawn.randrange(8):
            case 0 | 1:
                disks.write(drawn)
            case 2:
                at = drawn.randrange(0, SIZE // 2, 512)
                disks.io("0", f"{drawn.choice(('write -z', 'discard'))} {at} {drawn.choice((512, 65536, 1 << 20))}")
            case 3:
                lab("restart", "gauge", "--force", "--no-wait")
            case 4:
                cut_short(nights, drawn)
            case 5:
                disks.write(drawn)
                lab("snapshot", "add", f"s{nights.night}-{drawn.random()}", "gauge")
            case _:
                disks.write(drawn)
                nights.make()
    nights.make()
    # Bitmaps of one archive only, and nothing half made.
    lab("stop", "gauge", "--force", "--wait", "0s")
    assert all(len(names) <= 1 for names in bitmaps(disks))
    assert not list(nights.folder.glob(".*"))
    nights.agree()


def cut_short(nights: Nights, drawn: random.Random) -> None:
    """An archive whose command is killed at a random moment, or just after it was made."""
    nights.night += 1
    before, now = {*nights.folder.glob("*.guest")}, START + nights.night * DAY_S
    child = subprocess.Popen(
        [sys.executable, "-c", MAKE, nights.lab.file, str(now)], env=nights.lab.env, stdout=subprocess.DEVNULL,
        start_new_session=True,
    )  # fmt: skip
    time.sleep(drawn.uniform(0.1, 1.2))
    with contextlib.suppress(ProcessLookupError):
        os.killpg(child.pid, signal.SIGKILL)
    child.wait()
    for file in {*nights.folder.glob("*.guest")} - before:
        nights.had[str(file)] = nights.disks.contents()
