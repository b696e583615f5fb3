"""Snapshots in images that QEMU's own tool made: their names, and the space that a removal frees."""

from __future__ import annotations

import random
import subprocess
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from dacha.core.errors import PeerError
from dacha.formats.disk.qcow2_snapshots import Inside, inside, own_bytes


def qemu(*words: object) -> None:
    subprocess.run([str(w) for w in words], check=True, capture_output=True)


def reader(data: bytes):  # type: ignore[no-untyped-def]
    return lambda at, length: data[at : at + length]


@pytest.mark.parametrize("cluster", ["4k", "64k", "1M"])
def test_what_only_a_snapshot_uses_is_what_its_removal_frees(tmp_path: Path, cluster: str) -> None:
    disk, drawn = tmp_path / "disk.qcow2", random.Random(cluster)
    qemu("qemu-img", "create", "-f", "qcow2", "-o", f"cluster_size={cluster}", disk, "64M")
    for name in ("first", "second", "third"):
        for _ in range(6):
            at, length = drawn.randrange(0, 60 << 20, 4096), drawn.randrange(4096, 1 << 20, 4096)
            qemu("qemu-io", "-c", f"write {at} {length}", disk)
        qemu("qemu-img", "snapshot", "-c", name, disk)
    qemu("qemu-io", "-c", "write 0 16M", disk)
    data = disk.read_bytes()
    found = inside(reader(data))
    assert [(s.name, s.size) for s in found] == [(n, 64 << 20) for n in ("first", "second", "third")]
    for snapshot in found:
        own = own_bytes(reader(data), snapshot)
        copy = tmp_path / "copy.qcow2"
        copy.write_bytes(data)
        assert own == freed(copy, snapshot.name), snapshot
    assert sum(own_bytes(reader(data), s) for s in found) > 0


def freed(disk: Path, name: str) -> int:
    """How many bytes of clusters are free after the removal that were in use before: by the check of QEMU's tool, whose
    image end and leaks do not move."""
    before = in_use(disk)
    qemu("qemu-img", "snapshot", "-d", name, disk)
    return before - in_use(disk)


def in_use(disk: Path) -> int:
    """The bytes of clusters with a refcount, from the refcount table itself."""
    data = disk.read_bytes()
    bits, table, clusters = int.from_bytes(data[20:24], "big"), int.from_bytes(data[48:56], "big"), 0
    size = 1 << bits
    for n in range(int.from_bytes(data[56:60], "big") * size // 8):
        block = int.from_bytes(data[table + n * 8 : table + n * 8 + 8], "big")
        if block:
            rows = data[block : block + size]
            clusters += sum(rows[i : i + 2] != b"\0\0" for i in range(0, len(rows), 2))
    # The list of snapshots is written anew with each removal, in as many clusters.
    return clusters * size


def test_an_image_without_snapshots_has_none(tmp_path: Path) -> None:
    qemu("qemu-img", "create", "-f", "qcow2", tmp_path / "disk.qcow2", "1M")
    assert inside(reader((tmp_path / "disk.qcow2").read_bytes())) == []


@given(st.data())
def test_a_damaged_image_is_an_error_and_nothing_else(data: st.DataObject) -> None:
    head = bytearray(sample())
    for _ in range(data.draw(st.integers(1, 6))):
        head[data.draw(st.integers(0, len(head) - 1))] = data.draw(st.integers(0, 255))
    try:
        for snapshot in inside(reader(bytes(head)))[:3]:
            own_bytes(reader(bytes(head)), snapshot)
        own_bytes(reader(bytes(head)), Inside("x", 0, 0, data.draw(st.integers(0, 1 << 63)), 8))
    except PeerError:
        pass


def sample(cache: list[bytes] = []) -> bytes:  # noqa: B006  # made once
    """A small image with two snapshots."""
    if not cache:
        import tempfile

        with tempfile.TemporaryDirectory() as folder:
            disk = Path(folder) / "disk.qcow2"
            qemu("qemu-img", "create", "-f", "qcow2", "-o", "cluster_size=512", disk, "32k")
            for name in ("a", "b"):
                qemu("qemu-io", "-c", "write 0 4k", disk)
                qemu("qemu-img", "snapshot", "-c", name, disk)
            cache.append(disk.read_bytes())
    return cache[0]
