"""A disk that nothing was ever written to is known as such, from its own tables."""

from __future__ import annotations

import subprocess
from pathlib import Path

import pytest

from dacha.hypervisor.images.blank import is_blank


def made(path: Path, *options: str, size: str = "8M") -> Path:
    subprocess.run(["qemu-img", "create", "-q", "-f", "qcow2", *options, path, size], check=True)
    return path


@pytest.mark.parametrize("command", ["write 0 512", "write 7M 4k", "write -z 1M 1M"])
def test_a_disk_is_blank_until_something_is_written(tmp_path: Path, command: str) -> None:
    disk = made(tmp_path / "disk.qcow2")
    assert is_blank(disk)
    subprocess.run(["qemu-io", "-c", command, disk], check=True, capture_output=True)
    assert not is_blank(disk)


def test_what_is_not_known_to_be_blank_is_not(tmp_path: Path) -> None:
    below = made(tmp_path / "below.qcow2")
    assert not is_blank(made(tmp_path / "above.qcow2", "-b", str(below), "-F", "qcow2"))
    assert not is_blank(made(tmp_path / "full.qcow2", "-o", "preallocation=metadata"))
    raw = tmp_path / "raw"
    raw.write_bytes(bytes(1 << 20))
    assert not is_blank(raw) and not is_blank(tmp_path / "none")
    # A header that says more than the file has.
    lying = bytearray(below.read_bytes())
    lying[36:48] = (0xFFFFFFFF).to_bytes(4, "big") + (1 << 60).to_bytes(8, "big")
    raw.write_bytes(lying)
    assert not is_blank(raw)
