"""A disk that was grown: its last partition and its file system follow, with real tools on a real block device."""

from __future__ import annotations

import os
import subprocess
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest

from dacha.core.inside.growing import Grown, read_answers, script

MIB = 1 << 20


# Where this machine does not let root resize a mounted ext4 (CAP_SYS_RESOURCE), the same program does it unmounted.
BESIDE = """\
#!/bin/sh
at=$(awk -v d="$1" '$1 == d { print $2 }' /proc/mounts)
for n in 1 2 3 4 5 6 7 8 9; do
  umount "$at" && break
  sleep 0.5
done
e2fsck -fp "$1" > /dev/null
PATH=/usr/sbin:/sbin:/usr/bin:/bin resize2fs "$1"
mount "$1" "$at"
"""


def may_resize() -> bool:
    told = dict(line.split(":\t", 1) for line in Path("/proc/self/status").read_text().splitlines() if ":\t" in line)
    return bool(int(told["CapEff"], 16) >> 24 & 1)


def run(*command: str | Path, given: str = "") -> str:
    done = subprocess.run(command, input=given, capture_output=True, text=True, check=False)
    assert done.returncode == 0, done
    return done.stdout.strip()


class Disk:
    """A loop device of this test; `grow` makes its file longer, as a hypervisor grows a disk."""

    def __init__(self, folder: Path, partitions: str) -> None:
        self.file, self.place = folder / "disk.img", folder / "mounted"
        if not may_resize():
            (folder / "resize2fs").write_text(BESIDE)
            (folder / "resize2fs").chmod(0o755)
        self.place.mkdir()
        with self.file.open("wb") as f:
            f.truncate(64 * MIB)
        if partitions:
            run("sfdisk", "-q", "--label", "gpt", self.file, given=partitions)
        self.path = run("losetup", "-f", "--show", self.file)
        self.name = Path(self.path).name
        if partitions:
            subprocess.run(["partx", "-a", self.path], check=False, capture_output=True)

    def part(self, number: int) -> str:
        """The path of a partition, once the kernel shows it."""
        path = f"{self.path}p{number}"
        deadline = time.monotonic() + 20
        while not Path(path).exists():
            assert time.monotonic() < deadline
            time.sleep(0.05)
        return path

    def made(self, kind: str, device: str) -> None:
        run(f"mkfs.{kind}" if kind != "swap" else "mkswap", *(["-q"] if kind == "ext4" else []), device)
        if kind == "ext4":
            run("mount", device, self.place)
            (self.place / "tides").write_text("high and low")

    def grow(self) -> None:
        with self.file.open("r+b") as f:
            f.truncate(128 * MIB)
        run("losetup", "-c", self.path)

    def follows(self) -> Grown:
        answers = read_answers(run("sh", "-c", f"PATH={self.file.parent}:$PATH\n" + script("none", self.name)))
        assert answers is not None
        return answers


@pytest.fixture
def disk(tmp_path: Path) -> Iterator[Callable[[str], Disk]]:
    made: list[Disk] = []

    def make(partitions: str = "") -> Disk:
        made.append(Disk(tmp_path, partitions))
        return made[-1]

    yield make
    for one in made:
        subprocess.run(["umount", one.place], check=False, capture_output=True)
        subprocess.run(["partx", "-d", one.path], check=False, capture_output=True)
        run("losetup", "-d", one.path)


@pytest.mark.parametrize("partitions", ["", ",16M\n,40M\n"], ids=["bare", "partitioned"])
def test_a_file_system_grows_with_its_disk_while_it_is_used(disk: Callable[[str], Disk], partitions: str) -> None:
    one = disk(partitions)
    one.made("ext4", one.part(2) if partitions else one.path)
    before = os.statvfs(one.place)
    assert one.follows().now == one.follows().before, "nothing to do"
    one.grow()
    grown = one.follows()
    after = os.statvfs(one.place)
    assert grown.place == str(one.place) and grown.now - grown.before > 50 * MIB, grown
    assert (after.f_blocks - before.f_blocks) * after.f_frsize > 50 * MIB
    assert (one.place / "tides").read_text() == "high and low"
    # The same once more changes nothing.
    assert one.follows() == grown._replace(before=grown.now)


def test_what_it_does_not_know_is_left_as_it_is(disk: Callable[[str], Disk]) -> None:
    one = disk(",16M\n,40M\n")
    one.made("ext4", one.part(1))
    one.made("swap", one.part(2))
    one.grow()
    found = one.follows()
    assert "has swap, which is not grown by itself" in found.left, found
    assert "does not show the disk" in (read_answers(run("sh", "-c", script("no-such-serial"))) or Grown()).left


def test_answers_that_are_not_complete() -> None:
    assert read_answers("grow grown 1 2 /\n") is None
    assert read_answers("grow grown x 2 /\ngrow end\n") == Grown(left="its answer is not complete")
    assert read_answers("grow denied\ngrow end\n") == Grown(
        left="the login user does not become root without a password"
    )
