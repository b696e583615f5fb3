"""Space that guests no longer use is free on this host again: of running ones, and of those that are off."""

from __future__ import annotations

import subprocess
from pathlib import Path

from dacha.core.inside.trimming import SCRIPT, read_answers
from tests.conftest import Lab
from tests.states.world import AGENT, LAB, inside, with_agent

# It trims what it was asked to, as an agent does.
DONE = '{"return": {"paths": [{"path": "/mnt", "trimmed": 1}]}}'
TRIMS = AGENT.replace("*set-time*)", f"*fstrim*) fstrim /mnt && echo '{DONE}' >&3 ;;\n        *set-time*)")


def with_file_system(lab: Lab) -> Path:
    """A guest with a file system on its disk, mounted; the disk's image."""
    image = lab.folder / "tides.img"
    with image.open("wb") as f:
        f.truncate(96 << 20)
    subprocess.run(["mkfs.ext4", "-q", "-O", "^metadata_csum_seed,^orphan_file", image], check=True)
    lab.write(LAB.replace('{ size = "32 MiB" }', '{ from = "tides.img" }'))
    lab("apply", "--no-wait")
    mounted(lab)
    return lab.guest_folder("gauge") / "disk-0.qcow2"


def mounted(lab: Lab) -> None:
    assert inside(lab, "mkdir -p /mnt; mount -t ext4 /dev/vda /mnt && echo in").endswith("in")


def filled_and_emptied(lab: Lab) -> None:
    inside(lab, "dd if=/dev/urandom of=/mnt/tides bs=1M count=40 2> /dev/null; echo kept > /mnt/kept; sync")
    inside(lab, "rm /mnt/tides; sync")


def stored(disk: Path) -> int:
    return disk.stat().st_blocks * 512


def test_a_running_guest_trims_and_this_host_has_the_space_again(guest_lab: Lab) -> None:
    lab = guest_lab
    disk = with_file_system(lab)
    filled_and_emptied(lab)
    before = stored(disk)
    assert before > 40 << 20
    # Nobody in it may: it is said, with the way that works.
    done = lab("guest", "compact", "gauge", code=1)
    assert "does not trim its file systems" in done.err + done.out or "cannot be queried" in done.err, done
    with_agent(lab, TRIMS)
    said = lab("guest", "compact", "gauge")
    assert "freed" in said.out and "trimmed by its guest agent" in said.out
    assert stored(disk) < before - (30 << 20)
    assert inside(lab, "cat /mnt/kept").split()[-1] == "kept"


def test_the_script_trims_each_file_system_once(guest_lab: Lab) -> None:
    lab = guest_lab
    disk = with_file_system(lab)
    filled_and_emptied(lab)
    before = stored(disk)
    inside(lab, "mkdir -p /also; mount --bind /mnt /also")
    inside(lab, f"cat > /run/trim <<'END'\n{SCRIPT}END\ntrue")
    answers = read_answers(inside(lab, "sh /run/trim"))
    assert answers is not None and len(answers.places) == 1 and stored(disk) < before - (30 << 20)
    assert read_answers("trim denied\ntrim end\n") == ((), "the login user does not become root without a password")
    assert read_answers("trim done /mnt\n") is None


def test_the_image_of_a_guest_that_is_off_is_written_again_without_what_is_zero(guest_lab: Lab) -> None:
    lab = guest_lab
    disk = with_file_system(lab)
    inside(lab, "dd if=/dev/urandom of=/mnt/tides bs=1M count=30 2> /dev/null; sync")
    inside(lab, "dd if=/dev/zero of=/mnt/tides bs=1M count=30 conv=notrunc 2> /dev/null; echo kept > /mnt/kept; sync")
    inside(lab, "umount /mnt")
    lab("pause", "gauge")
    assert "dacha resume gauge" in lab("guest", "compact", "gauge", code=1).err
    lab("stop", "gauge", "--force", "--wait", "0s")
    before = stored(disk)
    assert "its images were written again" in lab("guest", "compact", "gauge").out
    assert stored(disk) < before - (20 << 20)
    assert [p.name for p in disk.parent.iterdir() if ".part" in p.name] == []
    lab("start", "gauge", "--no-wait")
    mounted(lab)
    assert inside(lab, "cat /mnt/kept").split()[-1] == "kept"
    inside(lab, "umount /mnt")
    lab("snapshot", "add", "here", "gauge")
    lab("stop", "gauge", "--force", "--wait", "0s")
    assert "has snapshots: it is compacted while gauge runs" in lab("guest", "compact", "--all").err
