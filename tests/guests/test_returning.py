"""A guest that leaves the lab file and comes back: on a terminal one word gives it its disks again."""

from __future__ import annotations

import os
import pty
import subprocess
import time
from pathlib import Path

import pytest

from dacha.engine.disks.kept_disks import returning
from dacha.engine.workspace import load
from tests.conftest import PROGRAM, Lab

LAB = '[lab]\nname = "tides"\n'
GUEST = (
    '[guest.gauge]\nmemory = "64 MiB"\nvideo = false\ndisk = [{ size = "1 MiB" }, { name = "data", size = "2 MiB" }]\n'
)


def at_a_terminal(lab: Lab, answer: str) -> tuple[int, str]:
    outer, inner = pty.openpty()
    child = subprocess.Popen(
        [PROGRAM, "apply", "--no-wait"], cwd=lab.folder, env=lab.env, stdin=inner, stdout=inner, stderr=inner,
        start_new_session=True,
    )  # fmt: skip
    os.close(inner)
    said, deadline = b"", time.monotonic() + 120
    while b"[y/N]" not in said and time.monotonic() < deadline:
        said += os.read(outer, 4096)
    os.write(outer, answer.encode() + b"\n")
    try:
        while time.monotonic() < deadline:
            said += os.read(outer, 4096)
    except OSError:
        pass  # the other end is closed
    os.close(outer)
    return child.wait(60), said.decode()


def gone_and_back(lab: Lab, back: str = GUEST) -> Path:
    lab.write(LAB + GUEST)
    lab("apply", "--no-wait")
    lab("stop", "gauge", "--force", "--wait", "0s")
    disk = lab.folder / "state/labs/tides/guests/gauge/disk-0.qcow2"
    lab.write(LAB)
    lab("apply")
    lab.write(LAB + back)
    return disk


def test_one_word_gives_a_guest_its_disks_again(lab: Lab) -> None:
    disk = gone_and_back(lab)
    before = disk.stat().st_ino
    # In a script it stays refused.
    assert "disk 0 of an earlier guest gauge still exists" in lab("apply", "--no-wait", code=3).err
    code, said = at_a_terminal(lab, "n")
    assert code == 3 and "still exists" in said and "disk data: 2 MiB" in said
    code, said = at_a_terminal(lab, "y")
    assert code == 0 and "gauge is in the lab file again, as it was" in said and "started" in said
    assert disk.stat().st_ino == before and "everything applied" in lab("diff").out


@pytest.mark.parametrize(
    "changed",
    ['size = "1 MiB"', 'size = "2 MiB" }, { name = "other", size = "1 MiB"', 'from = "x.img", size = "1 MiB"'],
)
def test_a_guest_that_is_not_as_it_was_is_not_offered_anything(
    lab: Lab, changed: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    other = GUEST.replace('size = "2 MiB"', changed)
    gone_and_back(lab, other)
    for name, value in lab.env.items():
        if name.startswith("DACHA"):
            monkeypatch.setenv(name, value)
    assert returning(load(str(lab.file))) == {}
    lab.write(LAB + GUEST)
    assert [d.name for d in returning(load(str(lab.file)))["gauge"]] == ["0", "data"]
