"""A disk that was grown: its last partition and its file system follow, with real tools on a real block device."""

from __future__ import annotations

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
    """A loop device of this test, with partitions if wanted."""

    def __init__(self, folder: Path, partitions: str) -> None:
        self.folder, self.file, self.place = folder, folder / "disk.img", folder / "mounted"
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

    def used(self, device: str) -> list[Grown]:
        """What the script says of a file system that is in use: before the disk grows, after that, and once more. It is
        mounted in a namespace of its own: no other process of this machine keeps it."""
        (self.folder / "grow").write_text(f"PATH={self.folder}:$PATH\n" + script("none", self.name))
        steps = f"""
            mount {device} {self.place}; echo high and low > {self.place}/tides
            sh {self.folder}/grow > {self.folder}/0
            truncate -s 128M {self.file}; losetup -c {self.path}
            sh {self.folder}/grow > {self.folder}/1
            sh {self.folder}/grow > {self.folder}/2
            cat {self.place}/tides; df -k {self.place} | tail -n 1
        """
        said = run("unshare", "-m", "--propagation", "private", "sh", "-ec", steps).split()
        assert said[:3] == ["high", "and", "low"] and int(said[4]) > 70_000, said
        found = [read_answers((self.folder / str(n)).read_text()) for n in range(3)]
        return [answers for answers in found if answers is not None]


@pytest.fixture
def disk(tmp_path: Path) -> Iterator[Callable[[str], Disk]]:
    made: list[Disk] = []

    def make(partitions: str = "") -> Disk:
        made.append(Disk(tmp_path, partitions))
        return made[-1]

    yield make
    for one in made:
        subprocess.run(["partx", "-d", one.path], check=False, capture_output=True)
        run("losetup", "-d", one.path)


@pytest.mark.parametrize("partitions", ["", ",16M\n,\n"], ids=["bare", "partitioned"])
def test_a_file_system_grows_with_its_disk_while_it_is_used(disk: Callable[[str], Disk], partitions: str) -> None:
    one = disk(partitions)
    device = one.part(2) if partitions else one.path
    run("mkfs.ext4", "-q", device)
    before, grown, again = one.used(device)
    assert before.now == before.before, "nothing to do"
    assert grown.place == str(one.place) and grown.before == before.now and grown.now - grown.before > 50 * MIB, grown
    # The same once more changes nothing.
    assert again == grown._replace(before=grown.now)


def test_what_it_does_not_know_is_left_as_it_is(disk: Callable[[str], Disk]) -> None:
    one = disk(",16M\n,40M\n")
    run("mkswap", one.part(2))
    with one.file.open("r+b") as f:
        f.truncate(128 * MIB)
    run("losetup", "-c", one.path)
    found = read_answers(run("sh", "-c", script("none", one.name)))
    assert found is not None and "has swap, which is not grown by itself" in found.left, found
    assert "does not show the disk" in (read_answers(run("sh", "-c", script("no-such-serial"))) or Grown()).left


def test_answers_that_are_not_complete() -> None:
    assert read_answers("grow grown 1 2 /\n") is None
    assert read_answers("grow grown x 2 /\ngrow end\n") == Grown(left="its answer is not complete")
    assert read_answers("grow denied\ngrow end\n") == Grown(
        left="the login user does not become root without a password"
    )
