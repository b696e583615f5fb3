"""A machine that another program exported becomes a guest; a package that is not what it says changes nothing."""

from __future__ import annotations

import hashlib
import io
import subprocess
import sys
import tarfile
from pathlib import Path

import pytest

from tests.conftest import Lab
from tests.formats.test_ovf import DISKS, described
from tests.states.test_encryption import secret
from tests.states.world import LAB, inside

NAME = "tides-disk1.vmdk"
SIZED = DISKS.replace('"8" ovf:capacityAllocationUnits="byte * 2^30"', f'"{48 << 20}"')


@pytest.fixture
def pier(lab: Lab) -> Lab:
    lab.write(LAB.partition("[guest.gauge]")[0])
    return lab


def disk(lab: Lab, form: str = "vmdk", *options: str) -> bytes:
    """A disk image with known contents, in another program's format."""
    raw = lab.folder / "raw"
    with raw.open("wb") as f:
        f.truncate(48 << 20)
        f.write(b"tides" * 1000)
        f.seek(510)
        f.write(b"\x55\xaa")
    made = lab.folder / "made"
    subprocess.run(["qemu-img", "convert", "-O", form, *options, raw, made], check=True)
    return made.read_bytes()


def packed(files: dict[str, bytes], *, sums: bool = True) -> bytes:
    told = "".join(f"SHA256({name})= {hashlib.sha256(data).hexdigest()}\n" for name, data in files.items())
    out = io.BytesIO()
    with tarfile.open(fileobj=out, mode="w", format=tarfile.USTAR_FORMAT) as tar:
        for name, data in [*files.items(), *([("tides.mf", told.encode())] if sums else [])]:
            info = tarfile.TarInfo(name)
            info.size = len(data)
            tar.addfile(info, io.BytesIO(data))
    return out.getvalue()


def nothing_left(lab: Lab) -> bool:
    guests = lab.folder / "state/labs/states/guests"
    return "tide" not in lab.file.read_text() and (not guests.exists() or not list(guests.iterdir()))


def test_a_package_in_one_file_becomes_a_guest_that_starts(pier: Lab) -> None:
    lab = pier
    vmdk = disk(lab, "vmdk", "-o", "subformat=streamOptimized")
    (lab.folder / "tides.ova").write_bytes(packed({"tides.ovf": described(disks=SIZED), NAME: vmdk}))
    shown = lab("guest", "load", "tides.ova", "--check").out
    assert "with the machine Tide gauge 1: its checksums are correct" in shown and "768 MiB" in shown
    said = lab("guest", "load", "tides.ova").out
    assert "guest tide-gauge-1" in said and "Next: dacha apply" in said
    shown = lab("guest", "show", "tide-gauge-1").out
    for value in ("2 ", "768 MiB", "debian", "sata", "e1000", "48 MiB", "10.77.4."):
        assert value in shown, value
    file = lab.guest_folder("tide-gauge-1") / "disk-0.qcow2"
    subprocess.run(
        ["qemu-img", "compare", "-f", "qcow2", "-F", "raw", file, lab.folder / "raw"], check=True, capture_output=True
    )
    lab("apply", "--no-wait")
    assert lab("status", "--json", code=None).json["guests"][0]["state"] == "on"
    assert "already exists" in lab("guest", "load", "tides.ova", code=2).err


def test_a_package_in_a_folder_and_other_formats_of_disks(pier: Lab) -> None:
    lab = pier
    for n, form in enumerate(("vmdk", "vdi", "vhdx", "vpc", "qcow2", "raw")):
        folder = lab.folder / f"from-{form}"
        folder.mkdir()
        (folder / "tides.ovf").write_bytes(described(disks=SIZED))
        (folder / NAME).write_bytes(disk(lab, form))
        done = lab("guest", "load", f"from-{form}/tides.ovf", f"from-{n}")
        assert "no checksums" in done.err
        raw = lab.folder / "back"
        file = lab.guest_folder(f"from-{n}") / "disk-0.qcow2"
        subprocess.run(["qemu-img", "convert", "-O", "raw", file, raw], check=True)
        # Some formats round a disk's size up to their own unit.
        assert raw.read_bytes()[: 48 << 20] == (lab.folder / "raw").read_bytes(), form


def test_a_package_that_is_not_what_it_says_changes_nothing(pier: Lab) -> None:
    lab = pier
    vmdk = disk(lab)
    secret = lab.folder / "secret"
    secret.write_bytes(b"x" * 512)
    below = lab.folder / "below.qcow2"
    subprocess.run(["qemu-img", "create", "-q", "-f", "qcow2", "-b", secret, "-F", "raw", below, "1M"], check=True)
    right = packed({"tides.ovf": described(disks=SIZED), NAME: vmdk})
    descriptor = b'# Disk DescriptorFile\nversion=1\nRW 1 FLAT "secret" 0\n'
    cases = {
        "altered": (right.replace(b"tides" * 10, b"waves" * 10), "was altered"),
        "truncated": (right[: len(right) // 2], "ends|cannot be read|altered|does not have"),
        "a disk missing": (packed({"tides.ovf": described(disks=SIZED)}), "does not have its file"),
        "no description": (packed({NAME: vmdk}), "is not an OVF package"),
        "a file of the host below": (packed({"tides.ovf": described(disks=SIZED), NAME: below.read_bytes()}), "secret"),
        "extents of the host": (packed({"tides.ovf": described(disks=SIZED), NAME: descriptor}), "descriptor"),
        "no image": (packed({"tides.ovf": described(disks=SIZED), NAME: b"<html>" * 100}), "not a disk image|cannot"),
        "not a tar file": (b"nothing", "cannot be read"),
        "a path": (packed({"tides.ovf": described(files='<File ovf:id="file1" ovf:href="../x"/>')}), "outside of it"),
    }
    for name, (data, words) in cases.items():
        (lab.folder / "tides.ova").write_bytes(data)
        done = lab("guest", "load", "tides.ova", code=None)
        assert done.code in (1, 2, 3) and any(w in done.err for w in words.split("|")), (name, done)
        assert nothing_left(lab), name
    # A link beside the description leads nowhere.
    folder = lab.folder / "linked"
    folder.mkdir()
    (folder / "tides.ovf").write_bytes(described(disks=SIZED))
    (folder / NAME).symlink_to(secret)
    assert "does not have its file" in lab("guest", "load", "linked/tides.ovf", code=1).err and nothing_left(lab)
    lab.write(lab.file.read_text() + '[network.quay]\nkind = "nat"\n')
    (lab.folder / "tides.ova").write_bytes(right)
    assert "--network pier" in lab("guest", "load", "tides.ova", code=2).err
    assert "does not exist" in lab("guest", "load", "none.ova", code=2).err


def test_a_load_that_is_killed_leaves_nothing(pier: Lab) -> None:
    lab = pier
    (lab.folder / "tides.ova").write_bytes(packed({"tides.ovf": described(disks=SIZED), NAME: disk(lab)}))
    code = """
import os
from dacha.engine.archive import appliance
appliance.making.copy = lambda *a, **k: os._exit(9)
from dacha.cli.main import main
main(["guest", "load", "tides.ova"])
"""
    done = subprocess.run([sys.executable, "-c", code], cwd=lab.folder, env=lab.env, check=False)
    assert done.returncode == 9 and Path(lab.guest_folder("tide-gauge-1")).is_dir()
    lab("guest", "load", "tides.ova")
    there = sorted(p.name for p in lab.guest_folder("tide-gauge-1").iterdir() if "disk" in p.name)
    assert there == ["disk-0.json", "disk-0.qcow2", "disk-1.json", "disk-1.qcow2"]


def test_a_running_guest_is_saved_for_other_programs_and_is_the_same_when_loaded(guest_lab: Lab) -> None:
    lab = guest_lab
    two = LAB.replace('disk = [{ size = "32 MiB" }]', 'disk = [{ size = "32 MiB" }, { size = "1 MiB" }]')
    lab.write(two)
    lab("start", "gauge", "--no-wait")
    words = "65536) echo spring tide > /dev/$d ;; 2048) echo ebb > /dev/$d ;;"
    inside(lab, f"cd /sys/block; for d in vd?; do case $(cat $d/size) in {words} esac; done; sync")
    done = lab("guest", "save", "gauge", "gauge.ova")
    assert "saved to gauge.ova, an OVF package" in done.out and "not included" in done.out
    assert "its disk needs a boot loader" in done.err
    with tarfile.open(lab.folder / "gauge.ova") as tar:
        names = tar.getnames()
    assert names == ["gauge.ovf", "gauge.mf", "gauge-disk-0.vmdk", "gauge-disk-1.vmdk"]
    assert "its checksums are correct" in lab("guest", "load", "gauge.ova", "--check").out
    lab("guest", "load", "gauge.ova", "tern")
    for n, mark in (("0", b"spring tide"), ("1", b"ebb")):
        raw = lab.folder / "raw"
        file = lab.guest_folder("tern") / f"disk-{n}.qcow2"
        subprocess.run(["qemu-img", "convert", "-O", "raw", file, raw], check=True)
        assert raw.read_bytes().startswith(mark) and raw.stat().st_size == (32 if n == "0" else 1) << 20
    shown = lab("guest", "show", "tern").out
    assert "128 MiB" in shown and "pier" in shown
    assert not list(lab.guest_folder("gauge").glob(".archive-*"))
    lab("stop", "gauge", "--force", "--wait", "0s")
    told = lab("guest", "save", "gauge", "off.ova", "--json").json
    assert not told["running"] and [d["size_bytes"] for d in told["disks"]] == [32 << 20, 1 << 20]
    assert told["size_bytes"] == (lab.folder / "off.ova").stat().st_size


def test_what_cannot_be_saved_for_other_programs(guest_lab: Lab) -> None:
    lab = guest_lab
    secret(lab, "secret", "spring-tide-on-the-pier")
    lab.write(LAB.replace('disk = [{ size = "32 MiB" }]', 'disk = [{ size = "32 MiB", passphrase = "secret" }]'))
    assert "has no disk" in lab("guest", "save", "gauge", "gauge.ova", code=2).err
    lab("start", "gauge", "--no-wait")
    refused = lab("guest", "save", "gauge", "gauge.ova", code=1)
    assert "without encryption" in refused.err and "dacha guest save gauge FILE" in refused.err
    assert "ends in .ova" in lab("guest", "save", "gauge", "gauge.ovf", code=2).err
    assert "leave out --with-keys" in lab("guest", "save", "gauge", "gauge.ova", "--with-keys", code=2).err
    (lab.folder / "there.ova").write_text("here")
    assert "already exists" in lab("guest", "save", "gauge", "there.ova", code=2).err
    assert (lab.folder / "there.ova").read_text() == "here" and not list(lab.folder.glob("*gauge.ova*"))
