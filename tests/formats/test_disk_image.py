"""What an image is, told from its bytes: any bytes are judged, or refused with a reason."""

from __future__ import annotations

import subprocess
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from dacha.core.errors import PeerError
from dacha.formats.disk.disk_image import DiskImage, judge
from dacha.formats.disk.qcow2 import MAGIC


def of(data: bytes) -> DiskImage:
    return judge(lambda at, length: data[at : at + length], len(data))


@pytest.mark.parametrize("form", ["raw", "qcow2", "vmdk", "vdi", "vhdx", "vpc"])
def test_each_format_is_known_by_its_bytes_and_cut_anywhere_it_is_read_or_refused(tmp_path: Path, form: str) -> None:
    path = tmp_path / "image"
    subprocess.run(["qemu-img", "create", "-q", "-f", form, path, "1M"], check=True)
    data = path.read_bytes()
    assert of(data) == DiskImage(form)
    for length in (*range(0, 600, 7), 4096, 65535):
        try:
            of(data[:length])
        except PeerError as e:
            assert e.what


@given(st.binary(max_size=2000), st.sampled_from([b"", MAGIC + b"\0\0\0\3", MAGIC + b"\0\0\0\2", b"KDMV", b"COWD"]))
def test_any_bytes_are_judged(data: bytes, head: bytes) -> None:
    try:
        assert of(head + data).format
    except PeerError as e:
        assert e.what


def test_a_raw_disk_with_text_in_it_is_no_description() -> None:
    assert of(b"# notes of the pier\ntide 1.93 m\n".ljust(1024, b"\0")) == DiskImage("raw")
    with pytest.raises(PeerError, match="contents are in other files"):
        of(b"# Disk DescriptorFile\nversion=1\n".ljust(1024, b"\0"))
