"""Nothing is lost and nothing is taken in silence: media that disks are built on, disks of guests that have left."""

from __future__ import annotations

import random
import subprocess
import tomllib
from pathlib import Path

import pytest

from tests.conftest import PROGRAM, Lab

RAW = (b"tides".ljust(510, b" ") + b"\x55\xaa").ljust(1 << 20, b"\0")


def second(lab: Lab, name: str = "boathouse") -> Path:
    """Another lab of the same user, in the same state folder."""
    file = lab.folder / f"{name}.toml"
    file.write_text(f'[lab]\nname = "{name}"\n')
    return file


def apply(lab: Lab, *options: str) -> str:
    said = lab("apply", "--no-wait", *options).out
    lab("stop", "--all", "--force", "--wait", "0s", *options)
    return said


def test_a_medium_stays_while_a_disk_of_any_lab_is_built_on_it(lab: Lab) -> None:
    other = second(lab)
    lab("new", "pier")
    (lab.folder / "base.raw").write_bytes(RAW)
    lab("media", "add", "base.raw")
    lab("guest", "add", "gauge", "--from", "base", "--disk", "1MiB", "--memory", "64MiB")
    lab("guest", "add", "shed", "--from", "base", "--disk", "1MiB", "--memory", "64MiB", "--lab", str(other))
    # A guest that only names it, in a file that was never applied, is a use too.
    said = lab("media", "remove", "base", code=2).err
    assert "base stays: guests use it" in said and "gauge, disk 0" in said
    apply(lab)
    apply(lab, "--lab", str(other))
    said = lab("media", "remove", "base", code=2).err
    assert "base stays: disks are based on it" in said
    assert "gauge, disk 0        lab pier" in said and "shed, disk 0         lab boathouse" in said
    # Its guest leaves, its disk is kept: the medium still stays, whichever lab is asked.
    lab("guest", "remove", "shed", "--lab", str(other))
    apply(lab, "--lab", str(other))
    lab("guest", "remove", "gauge", "--with-disks")
    assert "delete disk 0 (1 MiB): its contents are lost" in lab("diff").out
    assert (lab.folder / "state/labs/pier/guests/gauge/disk-0.qcow2").exists()
    assert "deleted disk 0 (1 MiB)" in apply(lab)
    assert not (lab.folder / "state/labs/pier/guests/gauge").exists()
    said = lab("media", "remove", "base", code=2).err
    assert "shed, disk 0         lab boathouse, kept after its guest was removed" in said and "gauge" not in said
    assert "shed, disk 0" in lab("media", "show", "base").out
    # As the remedy says.
    lab("guest", "remove", "shed", "--with-disks", "--lab", str(other))
    apply(lab, "--lab", str(other))
    assert "Medium base was deleted" in lab("media", "remove", "base").out


def test_one_name_has_one_writer_and_what_was_begun_is_seen(lab: Lab) -> None:
    command = [PROGRAM, "media", "add", "-", "--name", "base"]
    with subprocess.Popen(command, cwd=lab.folder, env=lab.env, stdin=subprocess.PIPE, stdout=subprocess.PIPE) as slow:
        assert slow.stdin
        slow.stdin.write(RAW[: 1 << 19])
        slow.stdin.flush()
        media = lab.folder / "state/media"
        while not list(media.glob(".base.*.part")):
            assert slow.poll() is None
        (lab.folder / "base.raw").write_bytes(RAW * 2)
        said = lab("media", "add", "base.raw", code=None)
        assert said.code != 0 and "base is already being added" in said.err and "by dacha media add base" in said.err
        slow.stdin.write(RAW[1 << 19 :])
        slow.stdin.close()
        assert slow.wait(30) == 0
    assert "raw disk of 1 MiB" in lab("media", "show", "base").out
    (media / ".gone.fetch").write_bytes(RAW)
    (media / ".gone.fetch-from").write_text('{"url": "http://192.0.2.1/gone.iso", "validator": ""}')
    assert "gone: 1 MiB received from http://192.0.2.1/gone.iso" in lab("media", "list").out
    assert lab("media", "list", "--json").json["partial"][0]["name"] == "gone"
    assert "The incomplete download gone was deleted." in lab("media", "remove", "gone").out
    assert not list(media.glob(".gone*fetch*"))


def mark(disk: Path, byte: int) -> None:
    subprocess.run(
        ["qemu-io", "-f", "qcow2", "-c", f"write -P {byte} 65536 512", disk], check=True, capture_output=True
    )


def marked(disk: Path) -> int:
    """The byte that a disk was marked with; 0 for one that was not."""
    out = disk.parent / "probe"
    subprocess.run(["qemu-img", "convert", "-f", "qcow2", "-O", "raw", disk, out], check=True, capture_output=True)
    found = out.read_bytes()[65536]
    out.unlink()
    return found


def test_a_kept_disk_is_taken_only_when_asked_for(lab: Lab) -> None:
    lab("new", "pier")
    lab("guest", "add", "desk", "--disk", "1MiB", "--memory", "64MiB")
    apply(lab)
    disk = lab.guest_folder("desk") / "disk-0.qcow2"
    mark(disk, 7)
    lab("guest", "remove", "desk")
    apply(lab)
    before = lab.file.read_text()
    said = lab("guest", "add", "desk", "--disk", "2MiB", "--memory", "64MiB", code=2).err
    assert "disk desk/0 of an earlier guest desk still exists (1 MiB, last used" in said
    assert "--attach 0" in said and "--new-disk" in said
    assert lab.file.read_text() == before
    # Written into the file by hand it is not taken either, and "stopped on purpose" is not inherited.
    lab.file.write_text(before + '[guest.desk]\nmemory = "64 MiB"\ndisk = [{ size = "1 MiB" }]\n')
    assert "disk 0 of an earlier guest desk" in lab("check", code=1).out
    said = lab("apply", "--no-wait", code=3).err
    assert "disk 0 of an earlier guest desk" in said and "dacha guest edit desk --attach-disk 0" in said
    assert "desk uses the existing disk 0" in lab("guest", "edit", "desk", "--attach-disk", "0").out
    assert "started" in apply(lab) and marked(disk) == 7
    # Anew, beside what was kept.
    lab("guest", "remove", "desk")
    apply(lab)
    lab("guest", "add", "desk", "--disk", "2MiB", "--memory", "64MiB", "--new-disk")
    apply(lab)
    assert marked(disk) == 7 and marked(disk.with_name("disk-1.qcow2")) == 0
    assert lab("diff").out.count("everything applied") == 1 or "left off" in lab("diff").out
    # With it, by its name.
    lab("guest", "remove", "desk")
    apply(lab)
    assert "no stored disk 5 of desk exists" in lab("guest", "add", "desk", "--attach", "5", code=2).err
    lab("guest", "add", "desk", "--memory", "64MiB", "--attach", "desk/0")
    apply(lab)
    assert marked(disk) == 7


def test_a_disk_that_was_made_on_another_image_says_so(lab: Lab) -> None:
    lab("new", "pier")
    for name in ("one", "two"):
        (lab.folder / f"{name}.raw").write_bytes(RAW)
    lab("guest", "add", "desk", "--from", "one.raw", "--disk", "1MiB", "--memory", "64MiB")
    apply(lab)
    lab.file.write_text(lab.file.read_text().replace("one.raw", "two.raw"))
    assert "disk 0 was created from one.raw; the changed key `from` (two.raw" in lab("check", code=None).out


def test_an_image_that_another_was_put_in_place_of_is_not_started_on(lab: Lab) -> None:
    """The disk is what differs from its image: on another one its file system is broken, and soon beyond repair."""
    lab("new", "pier")
    base = lab.folder / "base.raw"
    base.write_bytes(RAW)
    lab("guest", "add", "gauge", "--from", "base.raw", "--disk", "1MiB", "--memory", "64MiB")
    apply(lab)
    start = ("start", "gauge", "--no-wait")
    # Written anew with the same in it, as a copy from elsewhere is: that is the same image.
    base.write_bytes(RAW)
    lab(*start)
    lab("stop", "--all", "--force", "--wait", "0s")
    base.write_bytes(RAW.replace(b"tides", b"ebbed"))
    refused = lab(*start, code=None)
    assert refused.code in (1, 3) and "is not the one that disk-0.qcow2 was created on" in refused.out + refused.err
    assert "restore that image" in refused.out + refused.err
    base.write_bytes(RAW)
    lab(*start)
    lab("stop", "--all", "--force", "--wait", "0s")
    # As the remedy says, for who knows better.
    base.write_bytes(RAW + bytes(512))
    (lab.guest_folder("gauge") / "disk-0.json").unlink()
    lab(*start)
    lab("stop", "--all", "--force", "--wait", "0s")


@pytest.mark.parametrize("seed", [1, 2])
def test_a_random_walk_over_two_labs_loses_and_takes_nothing(lab: Lab, seed: int) -> None:
    """Against a model: which disks there are, what is on each, and whether somebody asked for it to go."""
    dice = random.Random(seed)
    labs = {"pier": lab.file, "boathouse": second(lab)}
    labs["pier"].write_text('[lab]\nname = "pier"\n')
    (lab.folder / "base.raw").write_bytes(RAW)
    there: dict[tuple[str, str, str], int] = {}
    going: set[tuple[str, str, str]] = set()
    made_on: set[tuple[str, str, str]] = set()
    in_file: dict[str, set[str]] = {name: set() for name in labs}
    next_mark, medium = 1, False

    def files() -> dict[tuple[str, str, str], Path]:
        found = {}
        for disk in (lab.folder / "state/labs").glob("*/guests/*/disk-*.qcow2"):
            found[disk.parts[-4], disk.parts[-2], disk.stem.removeprefix("disk-")] = disk
        return found

    for _ in range(16):
        name, guest = dice.choice(list(labs)), dice.choice(["desk", "shed"])
        where = ("--lab", str(labs[name]))
        step = dice.choice(["add", "add-on-medium", "remove", "remove-with-disks", "apply", "apply", "media-remove"])
        kept = sorted(k for k in there if k[:2] == (name, guest))
        if step.startswith("add") and guest not in in_file[name]:
            options = ["--from", "base"] if step == "add-on-medium" and medium else []
            if step == "add-on-medium" and not medium:
                lab("media", "add", "base.raw")
                medium = True
                continue
            how = dice.choice([[], ["--new-disk"], ["--attach", kept[0][2]] if kept else []])
            said = lab("guest", "add", guest, "--memory", "64MiB", "--disk", "1MiB", *options, *how, *where, code=None)
            assert (said.code == 2) == bool(kept and not how), (how, kept, said)
            if said.code == 0:
                in_file[name].add(guest)
                going -= set(kept)
        elif step.startswith("remove") and guest in in_file[name]:
            options = ["--with-disks"] if step == "remove-with-disks" else []
            lab("guest", "remove", guest, *options, *where)
            in_file[name].discard(guest)
            going |= set(kept) if options else set()
        elif step == "apply":
            apply(lab, *where)
            for key in [k for k in going if k[0] == name]:
                there.pop(key, None)
                made_on.discard(key)
                going.discard(key)
            for key, disk in files().items():
                if key not in there:
                    assert marked(disk) in (0, 32), "a new disk is new"
                    mark(disk, next_mark)
                    there[key], next_mark = next_mark, next_mark + 1
                    if disk.read_bytes()[8:16] != bytes(8):
                        made_on.add(key)
        elif step == "media-remove" and medium:
            named = any('from = "base"' in file.read_text() for file in labs.values())
            said = lab("media", "remove", "base", code=None)
            assert (said.code == 0) == (not made_on and not named and not waiting(lab, labs)), (said, made_on)
            medium = said.code != 0
        assert {key: marked(disk) for key, disk in files().items()} == there, step


def waiting(lab: Lab, labs: dict[str, Path]) -> bool:
    """True when a lab as it was last applied names the medium."""
    return any('from = "base"' in f.read_text() for f in (lab.folder / "state/labs").glob("*/applied.toml"))


def disks_of(lab: Lab, guest: str) -> list[dict[str, str]]:
    found: list[dict[str, str]] = tomllib.loads(lab.file.read_text())["guest"][guest]["disk"]
    return found


def test_a_disk_comes_back_with_its_exact_size_and_its_bus(lab: Lab) -> None:
    """1280 MiB is not 1.2 GiB, and a system may have no driver for another bus."""
    lab("new", "pier")
    text = lab.file.read_text()
    disks = 'disk = [{ size = "1280 MiB", bus = "sata" }, { size = "1310 MiB", bus = "scsi" }]'
    lab.file.write_text(f'{text}\n[guest.desk]\nmemory = "64 MiB"\n{disks}\n')
    apply(lab)
    before = disks_of(lab, "desk")
    for name in ("0", "1"):
        lab("guest", "edit", "desk", "--detach-disk", name)
        lab("guest", "edit", "desk", "--attach-disk", name)
    there = {d.pop("name", str(n)): d for n, d in enumerate(disks_of(lab, "desk"))}
    assert there == dict(zip("01", before, strict=True))
    lab("guest", "remove", "desk")
    apply(lab)
    lab("guest", "add", "desk", "--attach", "0", "1", "--memory", "64MiB")
    assert disks_of(lab, "desk") == before
    assert "grow" not in lab("diff").out


def test_a_disk_that_was_deleted_by_hand_is_not_made_anew_in_silence(lab: Lab) -> None:
    lab("new", "pier")
    lab("guest", "add", "desk", "--disk", "1MiB", "--memory", "64MiB")
    apply(lab)
    disk = lab.guest_folder("desk") / "disk-0.qcow2"
    mark(disk, 7)
    away = disk.rename(lab.folder / "restored.qcow2")
    said = lab("check", code=1).out
    assert "disk 0 was created before, but its file no longer exists" in said
    for command in (("apply", "--no-wait"), ("start", "desk", "--no-wait")):
        said = lab(*command, code=None)
        assert said.code == 3 and "no longer exists" in said.err and not disk.exists(), said
    # As the remedy says: put back, or on purpose a new one.
    away.rename(disk)
    apply(lab)
    assert marked(disk) == 7
    disk.unlink()
    remedy = lab("check", code=1).out.partition("to start with a new, empty one: ")[2].split("\n")[0]
    subprocess.run(remedy, shell=True, check=True)
    apply(lab)
    assert disk.exists() and marked(disk) == 0


def test_a_stop_that_ran_out_of_time_is_forced_at_once(lab: Lab) -> None:
    """Meant to be off and being off are two things: a guest that does not hear its power button is on."""
    lab("new", "pier")
    lab("guest", "add", "desk", "--disk", "1MiB", "--memory", "64MiB")
    lab("apply", "--no-wait")
    said = lab("stop", "desk", "--wait", "1s", code=1).err
    assert "dacha stop desk --force" in said
    assert "is still on, although it was asked to stop" in lab("apply", "--no-wait").out
    lab("stop", "desk", "--force", "--wait", "1h")
    assert "left off, as it was stopped" in lab("apply", "--no-wait").out
