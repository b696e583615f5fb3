"""Media that say more than they hold: what reads them uses no more than it may, and nothing is filled by them."""

from __future__ import annotations

import os
import resource
import struct
import subprocess
import time
from pathlib import Path

from dacha.engine.media.media_facts import inspect
from dacha.formats.iso_image import iso_image
from tests.attacks.report import Report
from tests.conftest import Lab

MIB, GIB = 1 << 20, 1 << 30
SECTOR, CLUSTER = 2048, 65536


def path_table_bomb(path: Path, size: int) -> None:
    """An ISO 9660 image whose path table (ECMA-119 section 9.4) has `size` bytes, the most of them a hole."""
    data = bytearray(iso_image("BOMB", {"a": b"x"}))
    record = struct.pack("<BBIH", 1, 0, 20, 1) + b"A\0"
    for at in range(16 * SECTOR, 19 * SECTOR, SECTOR):
        if data[at] in (1, 2) and data[at + 1 : at + 6] == b"CD001":
            for offset, value in ((80, (len(data) + size) // SECTOR), (132, size)):
                struct.pack_into("<I", data, at + offset, value)
                struct.pack_into(">I", data, at + offset + 4, value)
            struct.pack_into("<I", data, at + 140, len(data) // SECTOR)
            struct.pack_into(">I", data, at + 148, len(data) // SECTOR)
    with path.open("wb") as f:
        f.write(data)
        f.write(record * (min(size, 24 * MIB) // len(record)))
        f.truncate(len(data) + size)


def shared_cluster(path: Path, size: int) -> None:
    """A qcow2 image all of whose contents are one and the same 64 KiB."""
    subprocess.run(["qemu-img", "create", "-q", "-f", "qcow2", path, str(size)], check=True)
    data = bytearray(path.read_bytes())
    tables = -(-size // (CLUSTER * CLUSTER // 8))
    first = int.from_bytes(data[40:48], "big")
    second = -(-len(data) // CLUSTER) * CLUSTER
    data = data.ljust(second + CLUSTER, b"\0")
    data[second : second + CLUSTER] = b"\xa5" * CLUSTER
    table = struct.pack(">Q", second) * (CLUSTER // 8)
    for n in range(tables):
        struct.pack_into(">Q", data, first + 8 * n, second + CLUSTER)
    path.write_bytes(data + table)


SIZES = {"2 GiB of path table, a hole": 2 * GIB - 4096}
if os.environ.get("DACHA_STORM_S"):
    SIZES["24 MiB of path table"] = 24 * MIB  # five seconds of a processor


def test_a_medium_costs_no_more_than_it_may(tmp_path: Path) -> None:
    report = Report()
    for what, size in SIZES.items():
        bomb = tmp_path / "bomb.iso"
        path_table_bomb(bomb, size)
        before, began = os.times(), time.monotonic()
        found = inspect(bomb)
        after = os.times()
        spent = after.children_user + after.children_system - before.children_user - before.children_system
        own = after.user - before.user
        largest = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss >> 10
        print(f"{what}: {spent:.1f} s of CPU time, {largest} MiB, {time.monotonic() - began:.1f} s in all")
        report.shut(f"{what}: more than 256 MiB", largest if largest > 256 else "")
        report.shut(f"{what}: more than 12 s of CPU time", spent if spent > 12 else "")
        report.shut(f"{what}: a second of our own process", own if own > 1 else "")
        report.open(f"{what}: it is said", any("could not be read with" in p for p in found["problems"]))
    fine = tmp_path / "fine.iso"
    fine.write_bytes(iso_image("FINE", {"a": b"x"}))
    report.open("an honest medium is read", inspect(fine)["label"] == "FINE" and not inspect(fine)["problems"])
    report.judge()


def test_a_copy_is_judged_by_what_it_will_write(lab: Lab) -> None:
    report = Report()
    bomb = lab.folder / "bomb.qcow2"
    free = os.statvfs(lab.folder)
    shared_cluster(bomb, (free.f_bavail * free.f_frsize + 4 * GIB) // GIB * GIB)
    assert bomb.stat().st_size < 64 * MIB
    lab("new", "siege")
    lab("guest", "add", "gauge", "--disk", "1MiB")
    text = lab.file.read_text().replace('size = "1 MiB"', f'from = "{bomb}", copy = true')
    assert "copy = true" in text
    lab.file.write_text(text)
    before = sum(f.stat().st_blocks for f in lab.folder.rglob("*") if f.is_file())
    said = lab("apply", "--no-wait", code=3)
    report.open("a copy that would not flogin refused in words", "no space for a copy of bomb.qcow2" in said.err)
    after = sum(f.stat().st_blocks for f in lab.folder.rglob("*") if f.is_file())
    report.shut("a copy that would not fit: something was written", (after - before) * 512 > 4 * MIB)
    report.judge()
